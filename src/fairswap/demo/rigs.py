"""Odd rigs: a population of skeletons as artists meet them, each with the truth about its bones.

Proportions from child to giant; names in words of several languages, abbreviations, numbers or nonsense; sides by any
marker; any axes, rest pose, orientation and unit; unlike counts of fingers, spine and neck bones; helpers, ends, clothes.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import FINGERS
from fairswap.demo.anatomy import JUNIPER, OSRIC, Measures
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, multiply, normalized, quaternion_from_axis_angle, rotate
from fairswap.model.skeleton import Skeleton


@dataclass(frozen=True, eq=False)
class Rig:
    """A figure without a mesh, the bone of each role, and what kind of rig it is."""

    figure: Figure
    truth: dict[str, int]
    helpers: frozenset[int]
    kind: dict[str, object]


_NAMES: dict[str, dict[str, str]] = {
    "anatomy": {
        "root": "Root", "hips": "Pelvis", "spine": "Spine", "neck": "Neck", "head": "Head", "jaw": "Jaw", "eye": "Eye",
        "shoulder": "Clavicle", "upper_arm": "UpperArm", "lower_arm": "LowerArm", "hand": "Hand", "upper_leg": "Thigh",
        "lower_leg": "Calf", "foot": "Foot", "toes": "Toe", "thumb": "Thumb", "index": "Index", "middle": "Middle",
        "ring": "Ring", "little": "Little", "twist": "Twist", "extra": "Skirt", "end": "End",
    },
    "joints": {
        "root": "origin", "hips": "hips", "spine": "back", "neck": "neck", "head": "skull", "jaw": "chin", "eye": "eyeball",
        "shoulder": "collar", "upper_arm": "shoulder", "lower_arm": "elbow", "hand": "wrist", "upper_leg": "hip",
        "lower_leg": "knee", "foot": "ankle", "toes": "ball", "thumb": "thumb", "index": "pointer", "middle": "mid",
        "ring": "ring", "little": "small", "twist": "roll", "extra": "coat", "end": "tip",
    },
    "latin": {
        "root": "basis", "hips": "pelvis", "spine": "lumbar", "neck": "cervical", "head": "cranium", "jaw": "mandible",
        "eye": "eye", "shoulder": "clavicula", "upper_arm": "humerus", "lower_arm": "ulna", "hand": "carpus",
        "upper_leg": "femur", "lower_leg": "tibia", "foot": "tarsus", "toes": "toes", "thumb": "digit1", "index": "digit2",
        "middle": "digit3", "ring": "digit4", "little": "digit5", "twist": "torsion", "extra": "tail", "end": "end",
    },
    "german": {
        "root": "Wurzel", "hips": "Hüfte", "spine": "Wirbelsäule", "neck": "Hals", "head": "Kopf", "jaw": "Kiefer",
        "eye": "Auge", "shoulder": "Schulter", "upper_arm": "Oberarm", "lower_arm": "Unterarm", "hand": "Hand",
        "upper_leg": "Oberschenkel", "lower_leg": "Unterschenkel", "foot": "Fuß", "toes": "Zehen", "thumb": "Daumen",
        "index": "Zeigefinger", "middle": "Mittelfinger", "ring": "Ringfinger", "little": "KleinerFinger",
        "twist": "Drehung", "extra": "Mantel", "end": "Spitze",
    },
    "french": {
        "root": "racine", "hips": "bassin", "spine": "colonne", "neck": "cou", "head": "tête", "jaw": "mâchoire",
        "eye": "oeil", "shoulder": "épaule", "upper_arm": "bras", "lower_arm": "avantBras", "hand": "main",
        "upper_leg": "cuisse", "lower_leg": "mollet", "foot": "pied", "toes": "orteils", "thumb": "pouce",
        "index": "index", "middle": "majeur", "ring": "annulaire", "little": "auriculaire", "twist": "torsion",
        "extra": "jupe", "end": "bout",
    },
    "spanish": {
        "root": "raiz", "hips": "cadera", "spine": "columna", "neck": "cuello", "head": "cabeza", "jaw": "mandíbula",
        "eye": "ojo", "shoulder": "clavícula", "upper_arm": "brazo", "lower_arm": "antebrazo", "hand": "mano",
        "upper_leg": "muslo", "lower_leg": "pantorrilla", "foot": "pie", "toes": "punta", "thumb": "pulgar",
        "index": "indice", "middle": "medio", "ring": "anular", "little": "meñique", "twist": "torsion",
        "extra": "falda", "end": "fin",
    },
    "japanese": {
        "root": "全体", "hips": "腰", "spine": "背骨", "neck": "首", "head": "頭", "jaw": "顎", "eye": "目", "shoulder": "肩",
        "upper_arm": "上腕", "lower_arm": "前腕", "hand": "手首", "upper_leg": "太腿", "lower_leg": "膝", "foot": "足首",
        "toes": "爪先", "thumb": "親指", "index": "人差指", "middle": "中指", "ring": "薬指", "little": "小指",
        "twist": "捩", "extra": "裾", "end": "先",
    },
    "short": {
        "root": "rt", "hips": "hip", "spine": "sp", "neck": "nk", "head": "hd", "jaw": "jw", "eye": "ey", "shoulder": "sho",
        "upper_arm": "upArm", "lower_arm": "loArm", "hand": "hnd", "upper_leg": "upLeg", "lower_leg": "loLeg",
        "foot": "ft", "toes": "toe", "thumb": "thm", "index": "idx", "middle": "mid", "ring": "rng", "little": "lit",
        "twist": "tw", "extra": "xtr", "end": "nub",
    },
}  # fmt: skip
NAMINGS = (*_NAMES, "numbers", "nonsense")
_SIDES = {
    "anatomy": [("L_{}", "R_{}"), ("{}.L", "{}.R"), ("Left{}", "Right{}"), ("{}_l", "{}_r"), ("{} left", "{} right")],
    "german": [("{}_links", "{}_rechts"), ("{}.L", "{}.R"), ("L{}", "R{}")],
    "french": [("{}_gauche", "{}_droite"), ("{}_G", "{}_D")],
    "spanish": [("{}_izq", "{}_der"), ("{}Izquierda", "{}Derecha")],
    "japanese": [("左{}", "右{}"), ("{}.L", "{}.R")],
    "unknown": [("dawn_{}", "dusk_{}"), ("{}~sun", "{}~moon")],
}
RESTS = ("T", "A", "down", "one up", "bent")


class _OddBones:
    """The bones of an odd rig while it is put together, as its dice fall."""

    def __init__(self, rng: np.random.Generator) -> None:
        self.rng = rng
        self.rest = str(rng.choice(RESTS))
        self.spine, self.neck = int(rng.integers(1, 8)), int(rng.choice([0, 1, 1, 1, 2, 3]))
        self.digits = int(rng.choice([0, 2, 3, 4, 5, 5, 5]))
        self.with_root, self.shoulders, self.toes = rng.random() < 0.6, rng.random() < 0.85, rng.random() < 0.8
        self.metacarpals, self.twists, self.ends = rng.random() < 0.3, rng.random() < 0.35, rng.random() < 0.4
        self.extras = rng.random() < 0.5
        self.rows: list[tuple[str, str, Floats]] = []
        self.base: Measures = JUNIPER if rng.random() < 0.5 else OSRIC
        self.stretch = {part: float(rng.uniform(0.8, 1.25)) for part in ("trunk", "legs", "arms", "head", "width")}
        self.leg_m: float = (self.base.hip_joint - self.base.ankle) * self.stretch["legs"]
        self.hip_height = self.leg_m + self.base.ankle

    def add(self, role: str, parent: str, place: Floats | list[float]) -> str:
        self.rows.append((role, parent, np.array(place, dtype=np.float64)))
        return role

    def trunk(self) -> tuple[str, str, float]:
        """Root, hips and spine: the hips, the chest, and how high it ends."""
        add, base, hip_height = self.add, self.base, self.hip_height
        hips = add("hips", add("root", "", [0, 0, 0]) if self.with_root else "", [0, hip_height + 0.03, 0])
        trunk = (base.neck - base.hips) * self.stretch["trunk"]
        below, spine = hips, self.spine
        self.split = self.rng.random() < 0.15  # legs on a bone of their own
        for i in range(spine):
            height = hip_height + 0.03 + trunk * (i + 0.4) / (spine + 0.4)
            below = add(f"spine_{i + 1}", below, [0, height, -0.01 * (i % 2)])
        return hips, below, hip_height + 0.03 + trunk

    def head(self, chest: str, top: float) -> tuple[Floats, float]:
        """Neck, head, jaw and eyes: where the head is, and its size."""
        rng, add, neck = self.rng, self.add, self.neck
        below = chest
        neck_m = (self.base.head - self.base.neck) * rng.uniform(0.9, 1.4) + 0.02
        for i in range(neck):
            below = add(f"neck_{i + 1}", below, [0, top + neck_m * i / max(neck, 1), 0])
        place = np.array([0, top + neck_m, 0.01])
        add("head", below, place)
        size = (self.base.crown - self.base.head) * self.stretch["head"]
        if self.ends and rng.random() < 0.7:
            add("end head", "head", place + [0, size, 0])
        if rng.random() < 0.4:
            add("jaw", "head", place + [0, 0.1 * size, 0.2 * size])
            for sign, side in ((1.0, "left"), (-1.0, "right")):
                add(f"eye_{side}", "head", place + [sign * 0.15 * size, 0.4 * size, 0.3 * size])
        return place, size

    def leg(self, sign: float, side: str, hips: str) -> None:
        """Leg, foot and toes."""
        add, leg = self.add, self.leg_m
        holder = hips
        if self.split:
            holder = add("extra pelvis", hips, [0, self.hip_height, 0]) if side == "left" else "extra pelvis"
        at = np.array([sign * self.base.hip_width * self.stretch["width"], self.hip_height, 0.0])
        thigh = add(f"upper_leg_{side}", holder, at)
        if self.twists:
            add(f"twist upper_leg_{side}", thigh, at - [0, 0.22 * leg, 0])
        shin = add(f"lower_leg_{side}", thigh, at - [0, 0.5 * leg, -0.004])
        foot = add(f"foot_{side}", shin, at - [0, leg, 0])
        ball = at - [0, leg + self.base.ankle - 0.02, -0.13 * self.stretch["legs"]]
        if self.toes:
            add(f"toes_{side}", foot, ball)
            if self.ends:
                add(f"end toes_{side}", f"toes_{side}", ball + [0, 0, 0.06])
        elif self.rng.random() < 0.5 or self.ends:
            add(f"end foot_{side}", foot, ball)

    def arm(self, sign: float, side: str, chest: str, top: float) -> None:
        """Shoulder, arm, hand and fingers."""
        add, stretch = self.add, self.stretch
        upper, lower = self.base.upper_arm * stretch["arms"], self.base.lower_arm * stretch["arms"]
        joint = np.array([sign * self.base.shoulder_width * stretch["width"], top - 0.035, -0.01])
        above = chest
        if self.shoulders:
            above = add(f"shoulder_{side}", chest, [sign * 0.02, top - 0.04, 0.0])
        arm = add(f"upper_arm_{side}", above, joint)
        if self.twists:
            add(f"twist upper_arm_{side}", arm, joint + [sign * 0.5 * upper, 0, 0])
        fore = add(f"lower_arm_{side}", arm, joint + [sign * upper, 0, 0])
        if self.twists:
            add(f"twist lower_arm_{side}", fore, joint + [sign * (upper + 0.5 * lower), 0, 0])
        wrist = joint + [sign * (upper + lower), 0, 0]
        self.fingers(sign, side, add(f"hand_{side}", fore, wrist), wrist)

    def fingers(self, sign: float, side: str, hand: str, wrist: Floats) -> None:
        """As many fingers as fell to it, and a thumb."""
        add, s = self.add, self.base.hand * self.stretch["arms"] / 0.19
        if self.digits == 0 and self.ends:
            add(f"end hand_{side}", hand, wrist + [sign * 0.1 * s, 0, 0])
        names = {0: (), 2: ("middle",), 3: ("index", "middle"), 4: ("index", "middle", "ring"), 5: FINGERS}[self.digits]
        for number, finger in enumerate(names):
            z = (0.027 - 0.0203 * number) * s if len(names) > 1 else 0.0
            start = wrist + [sign * 0.09 * s, 0, z]
            holder = hand
            if self.metacarpals:
                holder = add(f"{finger}_metacarpal_{side}", hand, wrist + [sign * 0.024 * s, 0, 0.6 * z])
            for part, length in zip(("proximal", "intermediate", "distal"), (0.042, 0.027, 0.021), strict=True):
                holder = add(f"{finger}_{part}_{side}", holder, start)
                start = start + [sign * length * s, 0, 0]
            if self.ends:
                add(f"end {finger}_{side}", holder, start)
        if self.digits:
            start, holder = wrist + [sign * 0.02 * s, -0.008 * s, 0.022 * s], hand
            for part, length in zip(("metacarpal", "proximal", "distal"), (0.044, 0.034, 0.028), strict=True):
                holder = add(f"thumb_{part}_{side}", holder, start)
                start = start + np.array([sign * 0.64, -0.36, 0.68]) * length * s
            if self.ends:
                add(f"end thumb_{side}", holder, start)

    def chain(self, above: str, names: list[str], place: Floats, step: list[float]) -> None:
        """Bones that no role is meant for: skirts, hair."""
        for i, name in enumerate(names):
            above = self.add(name, above, place + np.array(step) * i)


def odd_rig(seed: int, naming: str | None = None, upright: bool = False) -> Rig:
    """The rig number ``seed`` of the population; always the same.

    With ``upright`` it stands and faces as our space does, at its own size.
    """
    rng = np.random.default_rng(seed)
    naming = naming or str(rng.choice(NAMINGS))
    bones = _OddBones(rng)
    hips, chest, top = bones.trunk()
    head, size = bones.head(chest, top)
    for sign, side in ((1.0, "left"), (-1.0, "right")):
        bones.leg(sign, side, hips)
        bones.arm(sign, side, chest, top)
        if bones.extras:
            skirt = np.array([sign * 0.07, bones.hip_height - 0.02, -0.1])
            bones.chain(hips, [f"extra {i} {side}" for i in (1, 2, 3)], skirt, [0, -0.15, 0])
    if bones.extras and rng.random() < 0.5:
        hair = head + [0, 0.6 * size, -0.1]
        bones.chain("head", [f"extra hair {i}" for i in (1, 2, 3)], hair, [0, -0.08, -0.03])
    kind = {
        word: getattr(bones, word) for word in ("rest", "spine", "neck", "digits", "toes", "twists", "ends", "extras")
    }
    return _finished(rng, bones.rows, naming, bones.rest, {"naming": naming, **kind}, seed, upright)


def _finished(
    rng: np.random.Generator,
    rows: list[tuple[str, str, Floats]],
    naming: str,
    rest: str,
    kind: dict[str, object],
    seed: int,
    upright: bool,
) -> Rig:
    """Shuffle siblings, name, pose, turn, scale and roll the axes."""
    order = _depth_first(rng, rows)
    index = {row[0]: i for i, row in enumerate(order)}
    parents = np.array([index.get(row[1], -1) for row in order], dtype=np.intp)
    places = np.array([row[2] for row in order])
    places = places + rng.normal(0, 0.0008, places.shape)
    world = np.tile([0.0, 0.0, 0.0, 1.0], (len(order), 1))
    _pose(rng, rest, order, index, parents, world)
    posed = places.copy()
    for bone, parent in enumerate(parents.tolist()):
        if parent >= 0:
            posed[bone] = posed[parent] + rotate(world[parent], places[bone] - places[parent])
    turn = (
        normalized(rng.integers(-1, 2, 4) + [0.0, 0.0, 0.0, 0.001]) if rng.random() < 0.7 else np.array([0.0, 0, 0, 1])
    )
    if rng.random() < 0.3:
        turn = quaternion_from_axis_angle(rng.normal(size=3), rng.uniform(0, np.pi))
    if upright:
        turn = np.array([0.0, 0.0, 0.0, 1.0])
    posed = rotate(turn, posed) * float(np.exp(rng.uniform(np.log(0.3), np.log(4.0))))
    world = multiply(multiply(turn, world), normalized(rng.normal(size=(len(order), 4))))
    local, offsets = world.copy(), posed.copy()
    inner = parents >= 0
    local[inner] = multiply(conjugate(world[parents[inner]]), world[inner])
    offsets[inner] = rotate(conjugate(world[parents[inner]]), posed[inner] - posed[parents[inner]])
    names = _names(rng, naming, [row[0] for row in order])
    flagged = rng.random() < 0.5
    ends = frozenset(i for i, row in enumerate(order) if row[0].startswith("end ")) if flagged else frozenset()
    kind["flagged ends"] = flagged
    skeleton = Skeleton(tuple(names), parents, local, offsets, ends)
    truth = {row[0]: i for i, row in enumerate(order) if " " not in row[0]}
    helpers = frozenset(i for i, row in enumerate(order) if row[0].startswith("twist "))
    return Rig(Figure(f"rig {seed}", skeleton), truth, helpers, kind)


def _depth_first(rng: np.random.Generator, rows: list[tuple[str, str, Floats]]) -> list[tuple[str, str, Floats]]:
    out, stack = [], [row for row in rows if not row[1]]
    while stack:
        row = stack.pop()
        out.append(row)
        children = [child for child in rows if child[1] == row[0]]
        rng.shuffle(children)
        stack += children
    return out


def _pose(
    rng: np.random.Generator, rest: str, order: list[tuple[str, str, Floats]], index: dict[str, int], parents: np.ndarray,
    world: Floats,
) -> None:  # fmt: skip
    """World turns of a rest pose, written into ``world``."""
    own: dict[int, Floats] = {}
    for sign, side in ((1.0, "left"), (-1.0, "right")):
        down = {"T": 0.0, "A": 45.0, "down": 82.0, "one up": 70.0 if side == "left" else -80.0, "bent": 50.0}[rest]
        own[index[f"upper_arm_{side}"]] = quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(down))
        if rest == "bent":
            own[index[f"lower_arm_{side}"]] = quaternion_from_axis_angle([0, 1, 0], -sign * np.radians(30.0))
            own[index[f"lower_leg_{side}"]] = quaternion_from_axis_angle([1, 0, 0], np.radians(12.0))
        curl = rng.uniform(0, 35.0)
        for bone, (role, _, _) in enumerate(order):
            if role.endswith(side) and ("proximal" in role or "intermediate" in role) and "thumb" not in role:
                own[bone] = quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(curl))
    for bone, parent in enumerate(parents.tolist()):
        above = world[parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
        world[bone] = multiply(above, own[bone]) if bone in own else above


def _names(rng: np.random.Generator, naming: str, roles: list[str]) -> list[str]:
    if naming == "numbers":
        return [f"{i:03d}" if rng.random() < 2 else "" for i in range(len(roles))]
    if naming == "nonsense":
        syllables = ["ba", "ke", "mi", "zo", "ru", "ta", "vi", "no"]
        return ["".join(rng.choice(syllables, 3)) + str(i) for i in range(len(roles))]
    words = _NAMES[naming]
    styles = _SIDES.get(naming, _SIDES["anatomy"])
    style = _SIDES["unknown"][rng.integers(2)] if rng.random() < 0.15 else styles[rng.integers(len(styles))]
    prefix = str(rng.choice(["", "", "rig:", "scene1|", "Troupe_"]))
    joiner = str(rng.choice(["", "_", " "]))
    out = []
    for role in roles:
        side = "left" if role.endswith("left") else "right" if role.endswith("right") else ""
        base = role.removesuffix(f"_{side}").removesuffix(f" {side}")
        word = _word(words, base, joiner)
        out.append(prefix + (style[side == "right"].format(word) if side else word))
    return out


def _word(words: dict[str, str], base: str, joiner: str) -> str:
    if base.startswith("extra"):
        return words["extra"] + joiner + (base.split()[-1] if base.split()[-1].isdigit() else "a")
    if base.startswith("twist "):
        return words.get(base[6:], words["hand"]) + joiner + words["twist"]
    if base.startswith("end "):
        return words.get(base[4:], words["hand"]) + joiner + words["end"]
    kind, _, part = base.partition("_")
    if kind in ("spine", "neck"):
        return words[kind] + joiner + part
    if base in words:
        return words[base]
    number = {"metacarpal": 0, "proximal": 1, "intermediate": 2, "distal": 3}[part]
    if kind == "thumb":
        number += 1 - (number == 3)
    return f"{words[kind]}{joiner or '_'}{number}"
