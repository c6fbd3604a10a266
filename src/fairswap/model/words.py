"""What the words in bone names mean: everyday and anatomical words of several languages, abbreviations, side markers.

Our own lists, by meaning. A name is cut into words at capitals, digits and signs; accents and case do not matter. The
lists need not be complete: what they do not know says nothing, and the shape of the skeleton decides.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

# Meaning to words. English, German, French, Spanish, Italian, Dutch, Portuguese, Japanese (also in Latin letters), Polish.
_PARTS = {
    "root": "root origin base armature ground master wurzel racine raiz radice",
    "hips": "hip hips pelvis pelvic huefte huften becken hanche hanches bassin cadera caderas pelvi anca anche bacino heup "
    "bekken quadril biodra miednica koshi kotsuban 腰 骨盤",
    "spine": "spine spinal back torso trunk abdomen belly waist lumbar loin stomach ruecken rucken wirbel wirbelsaeule "
    "rumpf bauch dos colonne ventre taille espalda columna vientre cintura schiena colonna pancia rug buik plecy "
    "kregoslup sebone senaka hara vertebra 背 背骨 脊椎 腹",
    "chest": "chest breast thorax thoracic rib ribs ribcage sternum brust brustkorb poitrine pecho pecho petto torace "
    "borst peito klatka mune bust 胸",
    "neck": "neck nape cervical throat hals nacken cou nuque cuello nuca collo nek pescoco szyja kubi 首",
    "head": "head skull crown cranium kopf schaedel schadel tete crane cabeza craneo testa cranio hoofd cabeca glowa atama "
    "頭",
    "jaw": "jaw chin mandible kiefer kinn unterkiefer machoire menton mandibula mandibola mascella kaak zuchwa ago 顎",
    "eye": "eye eyeball auge oeil yeux ojo occhio oog olho oko me 目",
    "shoulder": "shoulder clavicle clavicula collar collarbone scapula schulter schluesselbein epaule clavicule "
    "hombro spalla clavicola schouder ombro bark obojczyk kata sakotsu 肩 鎖骨",
    "arm": "arm bras brazo braccio braco ramie ude 腕",
    "upper_arm": "upperarm humerus biceps bicep oberarm bovenarm joint_shoulder jouwan 上腕",
    "lower_arm": "forearm lowerarm elbow ulna radius unterarm ellbogen ellenbogen coude avantbras antebrazo codo "
    "avambraccio gomito onderarm elleboog cotovelo antebraco lokiec przedramie hiji zenwan 肘 前腕",
    "hand": "hand wrist palm carpus carpal handgelenk main poignet mano muneca polso pols mao pulso dlon reka te tekubi 手 "
    "手首",
    "leg": "leg bein jambe pierna gamba been perna noga ashi 脚",
    "upper_leg": "thigh femur upperleg oberschenkel cuisse muslo coscia dij coxa udo futomomo momo 腿 太腿",
    "lower_leg": "shin calf knee tibia fibula lowerleg unterschenkel knie wade schienbein genou mollet tibia rodilla "
    "pantorrilla espinilla ginocchio polpaccio kuit joelho canela kolano lydka hiza sune 膝 脛",
    "foot": "foot feet ankle tarsus boot shoe heel fuss fuesse knoechel pied cheville pie tobillo piede caviglia voet enkel "
    "pe tornozelo stopa kostka ashikubi 足 足首",
    "toes": "toe toes ball toecap zehe zehen fussballen orteil orteils dedopie punta alluce teen tsumasaki palec 爪先",
    "thumb": "thumb daumen pouce pulgar pollice duim polegar kciuk oyayubi 親指",
    "index": "index pointer point forefinger zeigefinger zeige indice wijsvinger indicador wskazujacy hitosashi 人差指 "
    "人差し指",
    "middle": "middle mid long mittelfinger mittel majeur medio corazon middelvinger srodkowy nakayubi 中指",
    "ring": "ring ringfinger annulaire anular anulare ringvinger serdeczny kusuriyubi 薬指",
    "little": "little small pinky kleinerfinger kleiner auriculaire petitdoigt menique mignolo pink mindinho maly "
    "koyubi 小指",
    "finger": "finger fingers doigt dedo dito vinger palce yubi digit phalanx phalange 指",
    "metacarpal": "metacarpal metacarpus mittelhand metacarpe metacarpo",
    "helper": "twist roll helper corrective correct assist volume muscle drehung hilfs torsion aide torcion",
    "end": "end tip nub effector site ende spitze bout fin fine",
    "extra": "skirt coat cape cloak tail wing hair braid ponytail dress cloth robe belt strap bag prop weapon sword lamp lantern "
    "shield sheath scabbard axe spear bow gun rifle pistol shotgun cannon muzzle handle dagger knife hammer quiver ammo hat ear antenna rock mantel schwanz fluegel haar jupe queue aile cheveux falda cola ala pelo gonna coda capelli brow lid "
    "lip cheek tongue nose nostril tooth teeth",
    "upper": "upper up upr ober superior sup haut oben alto",
    "lower": "lower low lo lwr unter inferior inf bas unten basso fore",
}  # fmt: skip
_SIDES = {
    "left": "left l lf lt lft links lnk gauche g izquierda izquierdo izq sinistra sinistro sx esquerda esq lewa lewy hidari port 左",
    "right": "right r rt rgt rechts droite droit d derecha derecho der destra destro dx direita dir prawa prawy migi "
    "starboard 右",
}
# One letter is a side only where it stands apart; these are no words of a part then.
_LETTERS = {"l": "left", "r": "right", "g": "left", "d": "right"}


def folded(text: str) -> str:
    """Lower case without accents; ä becomes ae, as written where there is no ä."""
    if text.isascii():
        return text.lower()
    text = text.replace("ä", "ae").replace("ö", "oe").replace("ü", "ue").replace("ß", "ss").replace("œ", "oe")
    text = text.replace("Ä", "Ae").replace("Ö", "Oe").replace("Ü", "Ue").replace("ł", "l")
    return "".join(c for c in unicodedata.normalize("NFKD", text.lower()) if not unicodedata.combining(c))


_MEANING = {folded(word): part for part, words in _PARTS.items() for word in words.split()}
_SIDE_WORDS = {folded(word): side for side, words in _SIDES.items() for word in words.split()}
SIDE_WORDS = frozenset(_SIDE_WORDS)
_LONG_WORDS = sorted((word for word in _MEANING if len(word) >= 4), key=len, reverse=True)
_CJK = re.compile(r"[\u3040-\u30ff\u4e00-\u9fff]+")
_CUT = re.compile(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[^A-Z\W\d_]+|[A-Z]+|\d+")


@dataclass(frozen=True)
class NameMeaning:
    """What a name says: parts of the body, a side, and the words it is made of."""

    parts: frozenset[str]
    side: str
    words: tuple[str, ...]


@lru_cache(maxsize=200_000)
def meaning_of(name: str) -> NameMeaning:
    """Cut a name into words and look them up.

    >>> sorted(meaning_of("Oberschenkel.L").parts), meaning_of("Oberschenkel.L").side
    (['upper_leg'], 'left')
    """
    words: list[str] = []
    unaccented = re.sub(r"[ßäöüÄÖÜœéèêáàíóúñç]", lambda letter: folded(letter[0]), name)
    words += [folded(chunk) for chunk in _CUT.findall(unaccented)]
    for run in _CJK.findall(name):
        words += [word for word in _MEANING if word in run and _CJK.match(word)]
        words += [word for word in _SIDE_WORDS if word in run and _CJK.match(word)]
    parts: set[str] = set()
    side = ""
    for position, word in enumerate(words):
        if word in _LETTERS and len(words) > 1:
            if word in ("l", "r") or position in (0, len(words) - 1):
                side = side or _LETTERS[word]
            continue
        if word in _SIDE_WORDS and (len(word) > 1 or _CJK.match(word)):
            side = side or _SIDE_WORDS[word]
            continue
        found = _MEANING.get(word) or _MEANING.get(word.rstrip("s"))
        if found:
            parts.add(found)
            continue
        if word.isdigit():
            continue
        parts |= _inside(word)
        if not side and len(word) > 4:
            side = next(
                (
                    _SIDE_WORDS[w]
                    for w in ("left", "right", "links", "rechts")
                    if word.startswith(w) or word.endswith(w)
                ),
                "",
            )
    return NameMeaning(frozenset(_combined(parts)), side, tuple(words))


@lru_cache(maxsize=20_000)
def _inside(word: str) -> frozenset[str]:
    """Known words run together: ``leftforearm``, ``handgelenkdrehung``."""
    found: set[str] = set()
    rest = word
    for known in _LONG_WORDS:
        if known in rest and len(known) >= max(4, len(word) // 4):
            found.add(_MEANING[known])
            rest = rest.replace(known, " ")
    for short in ("arm", "leg", "hip", "eye", "toe", "jaw"):
        if rest.strip() == short or (rest != word and short in rest.split()):
            found.add(_MEANING[short])
    return frozenset(found)


def _combined(parts: set[str]) -> set[str]:
    """``upper`` and ``arm`` together are an upper arm; ``fore`` and ``arm`` a lower one."""
    out = set(parts)
    for height in ("upper", "lower"):
        for limb in ("arm", "leg"):
            if height in parts and (limb in parts or f"{'lower' if height == 'upper' else 'upper'}_{limb}" in parts):
                out -= {limb, f"upper_{limb}", f"lower_{limb}"}
                out.add(f"{height}_{limb}")
    if "chest" in out and "spine" in out:
        out.discard("spine")
    if {"toes", "finger"} <= out or ({"foot", "finger"} <= out):
        out -= {"finger", "foot"}
        out.add("toes")
    return out - {"upper", "lower"}


# What each role may be called; a part that is in none of these contradicts the role.
def parts_of_role(role: str) -> frozenset[str]:
    """The parts whose words fit a role; the first is what it is called most."""
    base = re.sub(r"_(left|right)$", "", role)
    if base.startswith("spine_"):
        return frozenset({"spine", "chest"})
    if base.startswith("neck_"):
        return frozenset({"neck"})
    finger, _, part = base.partition("_")
    if finger in ("thumb", "index", "middle", "ring", "little"):
        return frozenset({finger, "finger", "hand"} | ({"metacarpal"} if part == "metacarpal" else set()))
    return {
        "root": frozenset({"root"}),
        "hips": frozenset({"hips"}),
        "upper_arm": frozenset({"upper_arm", "arm", "shoulder"}),
        "lower_arm": frozenset({"lower_arm", "arm"}),
        "shoulder": frozenset({"shoulder"}),
        "upper_leg": frozenset({"upper_leg", "leg", "hips"}),
        "lower_leg": frozenset({"lower_leg", "leg"}),
        "eye": frozenset({"eye"}),
    }.get(base, frozenset({base}))


def fit(name: str, role: str) -> float:
    """How well a name fits a role: 1 for its own word, less for a shared one, 0 for a name that says nothing, below 0
    for one that says something else."""
    parts = meaning_of(name).parts
    if not parts:
        return 0.0
    wanted = parts_of_role(role)
    base = re.sub(r"_(left|right)$", "", role)
    finger = base.partition("_")[0]
    own = base if base in wanted else finger if finger in wanted else base.partition("_")[0]
    if own in parts or (base.startswith("spine_") and parts & wanted):
        return 1.0 - 0.3 * len(parts - wanted)
    if parts & {"extra", "end", "helper"}:
        return -1.0
    if parts & wanted:
        return 0.55
    return -0.9


def sides_of(names: Iterable[str]) -> np.ndarray:
    """1 for names that say left, -1 for right, 0 for neither ``(names,)``.

    >>> sides_of(["thigh_L", "Pelvis", "RightFoot"]).tolist()
    [1, 0, -1]
    """
    signs = {"left": 1, "right": -1}
    return np.array([signs.get(meaning_of(name).side, 0) for name in names], dtype=np.intp)


def other_side(name: str, among: Iterable[str]) -> str | None:
    """The name that says the same of the other side; None if there is none, or if it says no side.

    >>> other_side("smileLeft", ["smileLeft", "smileRight", "frownRight"])
    'smileRight'
    """
    own = meaning_of(name)
    if not own.side:
        return None
    for other in among:
        found = meaning_of(other)
        differing = [pair for pair in zip(own.words, found.words, strict=False) if pair[0] != pair[1]]
        same_length = len(own.words) == len(found.words)
        if {own.side, found.side} == {"left", "right"} and same_length and len(differing) == 1:
            return other
    return None
