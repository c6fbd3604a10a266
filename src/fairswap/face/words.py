"""What the words in the names of face shapes mean, in several languages; our own lists, by meaning.

A name is cut into words (as names of bones are), each word into a notion; rules say which notions make which unit.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from functools import lru_cache

from fairswap.face.units import ACTIONS, TOGETHER, UNITS
from fairswap.model.words import SIDE_WORDS, folded, meaning_of

# Notion to words: English, German, French, Spanish, Italian, Portuguese, Latin, Japanese (also in Latin letters), Chinese,
# Korean, Russian (stems); abbreviations.
_NOTIONS = {
    "brow": (
        "brow brows eyebrow eyebrows braue brauen augenbraue sourcil sourcils ceja cejas sopracciglio mayu "
        "brw eyebr sobrancelha sobrancelhas supercilium mayuge бров 眉 まゆ 눈썹"
    ),
    "lid": (
        "lid lids eyelid eyelids lidschlag paupiere paupieres parpado parpados palpebra mabuta palpebras веко "
        "веки 瞼 まぶた 眼皮 眼睑 눈꺼풀"
    ),
    "eye": "eye eyes auge augen oeil yeux ojo ojos occhio occhi me eyed olho olhos oculus oculi глаз 目 眼 め 눈",
    "cheek": (
        "cheek cheeks wange wangen backe joue joues mejilla mejillas guancia hoho chk bochecha bochechas "
        "bucca щек щёк 頬 ほお 脸颊 颊 볼"
    ),
    "nose": "nose nase nez nariz naso hana nos nasus нос 鼻 はな 코",
    "nostril": "nostril nostrils nasenfluegel narine narines narina narices narici bikou nstrl ноздр 鼻孔 콧구멍",
    "mouth": "mouth mund bouche boca bocca kuchi mth mou boka oris рот 口 くち 嘴 입",
    "lip": (
        "lip lips labia labium lippe lippen levre levres labio labios labbro labbra kuchibiru labrum губ 唇 "
        "くちびる 嘴唇 입술"
    ),
    "jaw": "jaw kiefer unterkiefer machoire mandibula mascella ago queixo maxila челюст 顎 あご 颌 下巴 턱",
    "chin": "chin kinn menton barbilla mento",
    "tongue": "tongue zunge langue lengua lingua shita tng язык 舌 べろ 혀",
    "corner": (
        "corner corners winkel mundwinkel coin coins comisura comisuras angolo kado crn canto cantos angulus "
        "уголк уголок 口角 嘴角 입꼬리"
    ),
    "inner": "inner inside innen innere interieur interne interior interno uchi inr interna internas внутр 内 안쪽",
    "outer": "outer outside aussen aeussere exterieur externe exterior esterno soto otr externa externas внешн 外 바깥",
    "upper": "upper top ober oben obere oberlippe superieur superieure superior superiore ue upr верх 上唇",
    "lower": "lower bottom unter unten untere unterlippe inferieur inferieure inferior inferiore shita lwr нижн 下唇",
    "up": (
        "up lift lifted raise raiser raised raises hoch heben hoeher haut lever leve arriba subir sube su "
        "alza age ageru acima cima sursum rises вверх подн 上 うえ 扬 抬 위 올"
    ),
    "down": (
        "down drop lowerer depress depressor runter senken tief bas baisser baisse abajo bajar baja giu "
        "abbassa sage sageru dwn baixo abaixa deorsum droop droopy вниз опус 下 さげ 아래 내"
    ),
    "in": "in inward inwards rein einwaerts dedans adentro dentro",
    "out": "out outward outwards raus show dehors fuera fuori dashi poke",
    "open": (
        "open auf opened offen oeffnen ouvert ouvre ouvrir abierto abrir abre aperto apri ake akeru opn part "
        "apart ouverte abierta aberta aberto aperta apertum hiraku откр 開 开 张 ひら あけ 벌 열"
    ),
    "close": (
        "close closed shut zu schliessen geschlossen ferme fermer cerrado cerrar cierra chiuso chiudi toji "
        "tojiru cls fermee cerrada chiusa fechada fechado fechar clausum закр 閉 闭 合 とじ 닫 감"
    ),
    "blink": (
        "blink wink blinzeln zwinkern clignement cligne parpadeo guino guinar batter mabataki blnk piscar "
        "pisca nictus морг 瞬 まばたき ウィンク 眨 깜"
    ),
    "wide": "wide weit ecarquille abrete spalancato hirogeru",
    "narrow": (
        "narrow squint tight tighten tightener schmal eng kneifen plisse plisser entrecerrar stringi hosomeru "
        "sqnt"
    ),
    "smile": (
        "smile grin laecheln grinsen sourire sonrisa sorriso emi egao sml puller sorrir risus smirk улыб 笑 "
        "えがお 微笑 웃 미소"
    ),
    "frown": "frown frowny stirnrunzeln runzeln froncer fronce ceno fruncir aggrotta shikame frwn franzir хмур 皱眉 찡그",
    "sadmouth": "sulk traurigmund moue",
    "pucker": "pucker kiss kuss kussmund spitz baiser beso bacio kisu pckr pout поцел 嘟",
    "funnel": "funnel trichter entonnoir embudo imbuto fnl",
    "round": "round rounded rund rond redondo rotondo rotundus rotunda maru marui 圆 круг",
    "press": "press pressed pressen pression presser apretar premi osu prs",
    "roll": "roll rolled suck rollen einsaugen rouler enrollar risucchia maku",
    "puff": "puff puffed inflate aufblasen aufgeblasen gonfler gonfle inflar hinchar gonfia fukurami pff надут 鼓 膨 부풀",
    "hollow": "hollow hohl creux hueco incavo suction",
    "stretch": "stretch stretcher strecken dehnen etirer etire estirar stira hiku strch",
    "dimple": "dimple dimpler gruebchen fossette hoyuelo fossetta ekubo dmp",
    "wrinkle": "wrinkle wrinkler sneer ruempfen nasenruempfen plissement arruga arrugar arriccia shiwa wrkl",
    "flare": "flare dilator dilate blaehen dilater dilatar dilata hirogari",
    "squeeze": "compress compressor squeeze zusammen pincer comprimir comprimi",
    "forward": "forward thrust vor vorne avant adelante avanti mae fwd",
    "aside": "aside side sideways sideway seite seitlich cote lado lato yoko",
    "fold": "fold nasolabial deepener falte pli pliegue piega",
    "look": "look gaze blick schauen regard regarder mirar mirada sguardo miru lk olhar взгляд 視線 视线 시선",
    "say": "say viseme vis phoneme phon sound laut mouthshape lipsync sprich dire decir di",
    "joy": (
        "joy happy happiness freude froh gluecklich joie heureux alegria feliz gioia felice yorokobi ureshii "
        "felicidade alegre радост 喜 기쁨"
    ),
    "sadness": "sad sadness traurig trauer triste tristesse tristeza tristezza kanashimi kanashii tristia груст 悲 슬픔",
    "anger": (
        "anger angry wut wuetend zornig colere fache enojo enfadado rabbia arrabbiato ikari okoru raiva ira "
        "злост гнев 怒 분노"
    ),
    "fear": "fear afraid scared angst aengstlich peur effraye miedo asustado paura osore kowai",
    "disgust": "disgust disgusted yuck ekel degout asco disgusto kenno",
    "surprise": (
        "surprise surprised wow ueberraschung ueberrascht surpris sorpresa sorprendido sorpreso odoroki "
        "surpresa удив 驚 惊 놀람"
    ),
    "stare": "stare staring starren goggle",
    "cross": "cross",
    "sharp": "sharp",
    "fix": "fix corrective correction correct combo korrektur correctif correctivo korr crct",
}  # fmt: skip
# Notions to units; of sided actions without their side. The more of the name a rule explains, the better it fits.
_RULES = """
brow inner up: inner_brow_raiser | brow in up: inner_brow_raiser | brow outer up: outer_brow_raiser
brow out up: outer_brow_raiser | brow up: brow_raiser | brow up: inner_brow_raiser | brow up: outer_brow_raiser
brow wide: brow_raiser | brow down: brow_lowerer | brow frown: brow_lowerer | frown: brow_lowerer
eye wide: upper_lid_raiser | lid upper up: upper_lid_raiser | lid wide: upper_lid_raiser
eye open: upper_lid_raiser | lid up: upper_lid_raiser | eye narrow: lid_tightener | lid narrow: lid_tightener
narrow: lid_tightener | lid lower up: lid_tightener | eye close: eye_closure | lid close: eye_closure
blink: eye_closure | eye blink: eye_closure | close eye lid: eye_closure | lid blink: eye_closure
lid down: eye_closure | lid upper down: eye_closure | look up: gaze_up | eye up: gaze_up | eye look up: gaze_up
look down: gaze_down | eye down: gaze_down | eye look down: gaze_down | look in: gaze_in | eye look in: gaze_in
eye in: gaze_in | look out: gaze_out | eye look out: gaze_out | eye out: gaze_out | nose wrinkle: nose_wrinkler
wrinkle: nose_wrinkler | nose up: nose_wrinkler | nose narrow: nose_wrinkler | nostril flare: nostril_dilator | nose flare: nostril_dilator
nostril wide: nostril_dilator | nostril out: nostril_dilator | nostril squeeze: nostril_compressor
nostril narrow: nostril_compressor | nostril in: nostril_compressor | cheek up: cheek_raiser
cheek narrow: cheek_raiser | cheek puff: cheek_puff | puff: cheek_puff | cheek hollow: cheek_suck
cheek in: cheek_suck | cheek roll: cheek_suck | cheek hollow in: cheek_suck | lip upper up: upper_lip_raiser
mouth upper up: upper_lip_raiser | lip upper: upper_lip_raiser | fold: nasolabial_deepener
nose fold: nasolabial_deepener | smile: lip_corner_puller | mouth smile: lip_corner_puller
lip corner up: lip_corner_puller | mouth corner up: lip_corner_puller | corner up: lip_corner_puller
lip corner smile: lip_corner_puller | lip smile: lip_corner_puller | dimple: dimpler | mouth dimple: dimpler
lip corner down: lip_corner_depressor | mouth corner down: lip_corner_depressor | mouth frown: lip_corner_depressor
mouth sadness: lip_corner_depressor | corner down: lip_corner_depressor | mouth sadmouth: lip_corner_depressor
lip frown: lip_corner_depressor | lip lower down: lower_lip_depressor | mouth lower down: lower_lip_depressor
lip stretch: lip_stretcher | mouth stretch: lip_stretcher | stretch: lip_stretcher | mouth wide: lip_stretcher
lip wide: lip_stretcher | chin up: chin_raiser | mouth chin up: chin_raiser | pucker: lip_pucker
mouth pucker: lip_pucker | lip pucker: lip_pucker | funnel: lip_funneler | lip funnel: lip_funneler
mouth funnel: lip_funneler | lip round: lip_funneler | mouth round: lip_funneler
mouth round: viseme_o | lip narrow: lip_tightener | mouth narrow: lip_tightener | lip press: lip_pressor
mouth press: lip_pressor | press: lip_pressor | lip open: lips_part | lip open mouth: lips_part | lip roll: lip_suck
mouth roll: lip_suck | lip roll in: lip_suck | mouth roll in: lip_suck | lip in: lip_suck | jaw open: jaw_drop
jaw down: jaw_drop | jaw: jaw_drop | mouth open: jaw_drop | mouth down: jaw_drop | jaw forward: jaw_thrust
jaw out: jaw_thrust | jaw aside: jaw_aside | jaw left: jaw_aside | mouth left: jaw_aside | tongue out: tongue_show
tongue: tongue_show | tongue forward: tongue_show | joy: joy | smile joy: joy | sadness: sadness | anger: anger
fear: fear | disgust: disgust | surprise: surprise | stare: upper_lid_raiser | eye stare: upper_lid_raiser
wide: upper_lid_raiser | wide: lip_stretcher
cross: anger | cross eye: gaze_in | cross eye look: gaze_in | sharp smile: sharp_lip_puller
sharp lip smile: sharp_lip_puller | sharp lip corner smile: sharp_lip_puller
"""
_SPOKEN = {
    "viseme_pbm": "mm m p b pbm mbp bmp pp pb", "viseme_fv": "f v fv ff", "viseme_th": "th dh tt", "viseme_td": "t d td dt",
    "viseme_kg": "k g kg kk ng", "viseme_ch": "ch sh j zh chj", "viseme_sz": "s z sz ss", "viseme_nl": "n l nl nn",
    "viseme_r": "r rr", "viseme_a": "a ah aa aah", "viseme_e": "e eh", "viseme_i": "i ee ih iy", "viseme_o": "o oh",
    "viseme_u": "u oo uu uh w",
}  # fmt: skip
_MEANS: dict[str, frozenset[str]] = {}
for _notion, _words in _NOTIONS.items():
    for _word in _words.split():
        _MEANS[folded(_word)] = _MEANS.get(folded(_word), frozenset()) | {_notion}
_LONG = sorted((word for word in _MEANS if len(word) >= 4 and word.isascii()), key=len, reverse=True)
_SPELT, _MISSPELT = [word for word in _LONG if len(word) >= 5], 0.84
# Words that are written without gaps, or inflected: known by a part of them.
_STEMS = sorted((word for word in _MEANS if not word.isascii()), key=len, reverse=True)
_SIDE_STEMS = {"лев": "left", "прав": "right", "왼": "left", "오른": "right"}
_KANA = {"あ": "viseme_a", "い": "viseme_i", "う": "viseme_u", "え": "viseme_e", "お": "viseme_o"}
# Words that may be written without their vowels: the first of each notion, and a few more.
_SHORTENED = ("eyelid", "corner", "inner", "outer", "upper", "lower", "lift", "raise", "close", "squint", "wrinkle")
_SKELETONS: dict[str, frozenset[str]] = {}
for _word in (*(words.split()[0] for words in _NOTIONS.values()), *_SHORTENED):
    _bare = _word[0] + "".join(letter for letter in _word[1:] if letter not in "aeiou")
    _SKELETONS[_bare] = _SKELETONS.get(_bare, frozenset()) | _MEANS[_word]
# FACS numbers that are more, or a moment, of another action.
_MORE_CODES = {27: "jaw_drop", 44: "lid_tightener", 45: "eye_closure", 46: "eye_closure"}
_BY_CODE = _MORE_CODES | {action.code: action.name for action in ACTIONS if action.code and action.name[:4] != "jaw_"}
_BY_CODE |= {26: "jaw_drop", 29: "jaw_thrust"}
_CODED = re.compile(r"(?:^|[^a-z])(?:au|actionunit|action_unit)[ _.-]?0*(\d{1,2})(?!\d)")
_SOUND = {word: name for name, words in _SPOKEN.items() for word in words.split()}
_ALL_RULES = [
    (frozenset(left.split()), right.strip())
    for line in _RULES.strip().splitlines()
    for left, _, right in (row.partition(":") for row in line.split("|"))
]
# Letters that say a side where they stand apart, and a sound where nothing else is said.
_ALSO_WORDS = frozenset(["l", "r", "d", "g"])
_SIDED = {action.name for action in ACTIONS if action.sided}


@dataclass(frozen=True)
class ShapeName:
    """What a name says: how well each unit, pair, viseme or expression fits (0 to 1), its side, whether it mends
    others."""

    scores: dict[str, float]
    side: str
    notions: frozenset[str]
    corrective: bool


@lru_cache(maxsize=20_000)
def shape_name(name: str) -> ShapeName:
    """Cut a name into words, the words into notions, and see which units they make.

    >>> max(shape_name("Augenbraue_innen_hoch_L").scores.items(), key=lambda row: row[1])[0]
    'inner_brow_raiser_left'
    """
    meaning = meaning_of(name)
    notions: set[str] = set()
    sounds: list[str] = []
    left_over = 0
    words = [word for word in meaning.words if not word.isdigit() and word not in SIDE_WORDS - _ALSO_WORDS]
    for word in words:
        found = _notions_in(word)
        notions |= found
        if word in _SOUND or word in _KANA:
            sounds.append(_SOUND.get(word) or _KANA[word])
        elif not found:
            left_over += 1
    side = meaning.side or next((said for stem, said in _SIDE_STEMS.items() if stem in name.lower()), "")
    scores: dict[str, float] = {}

    def add(target: str, score: float) -> None:
        scores[target] = max(scores.get(target, 0.0), score)

    said = notions - {"say", "fix"}
    for needed, target in _ALL_RULES:
        if needed <= said | ({"left"} if side else set()):
            score = len(needed) / (len(said | needed) + 0.3 * left_over)
            if target == "jaw_aside":
                for one in ("left", "right"):
                    add(f"jaw_{one}", score if side in (one, "") else 0.0)
            elif target in _SIDED or target in TOGETHER:
                for end in [side] if side else ["left", "right", ""]:
                    add(f"{target}_{end}".rstrip("_"), score if end == side else 0.4 * score)
            else:
                add(target, score * (0.6 if side and target in UNITS else 1.0))
    # A lone letter is a sound only where the name says that it is spoken, or is nothing else.
    for code in _CODED.findall(name.lower()):
        action = _BY_CODE.get(int(code))
        if action is not None:
            add(f"{action}_{side}" if side and action in _SIDED else action, 0.95)
    alone = len(words) <= 1 and bool(sounds) and not any(letter.isdigit() for letter in name)
    if sounds and (said <= {"mouth", "lip", "open"} and ("say" in notions or said or alone)):
        for sound in sounds:
            add(sound, 0.95 if "say" in notions or alone else 0.8)
    return ShapeName(scores, side, frozenset(notions), "fix" in notions)


@lru_cache(maxsize=20_000)
def _notions_in(word: str) -> frozenset[str]:
    """What a word means: as it is, as words run together, without its vowels, or nearly so spelt."""
    if word in _MEANS:
        return _MEANS[word]
    found: set[str] = set()
    rest = word
    for known in _LONG if word.isascii() else _STEMS:
        if known in rest:
            found |= _MEANS[known]
            rest = rest.replace(known, " ")
    if found or not word.isascii():
        return frozenset(found)
    return _shortened(word) or _nearly(word)


def _shortened(word: str) -> frozenset[str]:
    """Of a word without vowels the one it was: ``brw``, ``opn``, ``dn``."""
    if len(word) < 2 or any(letter in "aeiou" for letter in word[1:]):
        return frozenset()
    if word in _SKELETONS:
        return _SKELETONS[word]
    # One more consonant may be left out.
    near = {
        meanings for bare, meanings in _SKELETONS.items()
        if bare[0] == word[0] and len(bare) == len(word) + 1 and any(bare[:i] + bare[i + 1 :] == word for i in range(1, len(bare)))
    }  # fmt: skip
    return next(iter(near)) if len(near) == 1 else frozenset()


def _nearly(word: str) -> frozenset[str]:
    """Of a misspelt word the one it was meant to be."""
    if len(word) < 5:
        return frozenset()
    swapped = [other for other in _SPELT if sorted(other) == sorted(word) and other[0] == word[0]]
    near = swapped or difflib.get_close_matches(word, _SPELT, 2, _MISSPELT)
    meanings = {_MEANS[other] for other in near}
    return next(iter(meanings)) if len(meanings) == 1 else frozenset()
