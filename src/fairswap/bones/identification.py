"""Which bone is which, found from names, tree and lengths together, with a confidence and reasons for each answer.

The whole skeleton is solved at once: every pair of twin limbs as legs with every other as arms, each in its best ways
to be read, with the trunk that follows. What wins does so as a body. How far a bone's role leads over the best body in
which another bone has it, and whether its name agrees, make its confidence (``bench/calibrate.py``).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from fairswap.bones.hands import fingers_of
from fairswap.bones.limbs import Alignment, Pair, _bell, arm_alignments, leg_alignments, limb_pairs
from fairswap.bones.rig import Rig
from fairswap.bones.roles import FOUND_BY_ITSELF, MUST_HAVE, RoleMap, is_role, role_order
from fairswap.bones.sides import Sides, tell_sides
from fairswap.bones.trunk import Trunk, trunk_between
from fairswap.errors import Finding, UsageError
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.words import fit

# Log-odds that an answer is right: a constant and a factor for each feature, fitted by bench/calibrate.py.
CALIBRATION = {
    "constant": 2.24,
    "lead": 0.64,
    "close": -4.81,
    "named": 2.57,
    "misnamed": 1.5,  # too rare among generated rigs to be fitted
    "twin": 0.0,
    "quality": 2.38,
}
# A lead beyond this says no more; and what counts as the lead where no other reading was seen at all.
_MOST_LEAD, _NO_RIVAL, _CLOSE_LEAD = 4.0, 2.5, 0.7


@dataclass(frozen=True)
class Answer:
    """A bone for a role: how sure (0..1), why, and the next best bone where that is close."""

    bone: int
    confidence: float
    reasons: tuple[str, ...]
    other: int | None = None
    features: Mapping[str, float] = field(default_factory=dict)
    side_sure: float = 1.0


@dataclass(frozen=True, eq=False)
class Identification:
    """What is known of a figure's bones."""

    figure: str
    answers: dict[str, Answer]
    helper: dict[int, tuple[str, float]]
    end: tuple[int, ...]
    extra: tuple[int, ...]
    duplicates: tuple[tuple[int, int], ...]
    findings: tuple[Finding, ...]

    def role_map(self, least: float = 0.5) -> RoleMap:
        """The roles known with at least this confidence."""
        kept = {role: answer for role, answer in self.answers.items() if answer.confidence >= least}
        left = [f"{role} ({a.confidence:.2f})" for role, a in self.answers.items() if role not in kept]
        findings = list(self.findings)
        if left:
            shown = ", ".join(left[:8]) + (" …" if len(left) > 8 else "")
            message = f"less than {least:g} sure, left out: {shown}"
            remedy = "Name their bones in a profile"
            findings.append(Finding("bones-left-out", "warning", self.figure, message, remedy))
        return RoleMap(
            {role: answer.bone for role, answer in kept.items()},
            FOUND_BY_ITSELF,
            {role: answer.confidence for role, answer in kept.items()},
            tuple(findings),
            {bone: row for bone, row in self.helper.items() if row[0] in kept},
        )

    @property
    def missing(self) -> list[str]:
        """Must-have roles without an answer."""
        return [role for role in MUST_HAVE if role not in self.answers]


@dataclass(frozen=True)
class _Body:
    score: float
    legs: Pair
    leg_roles: Alignment
    arms: Pair
    arm_roles: Alignment
    trunk: Trunk


def identify(figure: Figure, say: Mapping[str, int] | None = None, clip: Clip | None = None) -> Identification:
    """Find the roles of a figure's bones.

    Parameters
    ----------
    say : mapping of role to bone index, optional
        What is known already; it is taken as it is.
    clip : Clip, optional
        A motion of the figure: which bones move, which turn like hinges, which way the knees bend.
    """
    rig = Rig(figure, clip)
    bodies = _bodies(rig)
    findings: list[Finding] = []
    answers: dict[str, Answer] = {}
    if not bodies:
        findings.append(Finding("no-body", "problem", figure.name, _no_body(rig)))
    else:
        answers = _answers(rig, bodies, findings)
    for role, bone in (say or {}).items():
        answers = {other: answer for other, answer in answers.items() if answer.bone != bone or other == role}
        answers[role] = Answer(bone, 1.0, ("you said so",))
    answers = {role: answers[role] for role in sorted(answers, key=role_order)}
    return _with_rest(rig, answers, findings)


def bones_said(figure: Figure, said: Mapping[str, str]) -> dict[str, int]:
    """Bones by role from the names of bones by role.

    Raises
    ------
    UsageError
        For a role or a bone that is not there.
    """
    found: dict[str, int] = {}
    for role, name in said.items():
        if not is_role(role):
            raise UsageError(f"{role!r} is not a role", remedy="docs/roles.md lists the roles")
        bones = [
            bone for bone, other in enumerate(figure.skeleton.names) if name in (other, figure.skeleton.path(bone))
        ]
        if len(bones) != 1:
            what = "no bone" if not bones else f"{len(bones)} bones"
            raise UsageError(
                f"{what} of {figure.name} is called {name!r}", remedy="Give its name, or its path if several are"
            )
        found[role] = bones[0]
    return found


def _bodies(rig: Rig) -> list[_Body]:
    """All bodies that can be seen in the skeleton, best first."""
    pairs = limb_pairs(rig)
    legs = {pair: leg_alignments(rig, pair) for pair in pairs}
    arms = {pair: arm_alignments(rig, pair) for pair in pairs}
    found = []
    for leg_pair in pairs:
        for arm_pair in pairs:
            if arm_pair is leg_pair or set(arm_pair.first + arm_pair.second) & set(leg_pair.first + leg_pair.second):
                continue
            for leg_roles in legs[leg_pair][:3]:
                for arm_roles in arms[arm_pair][:4]:
                    body = _body(rig, leg_pair, leg_roles, arm_pair, arm_roles)
                    if body is not None:
                        found.append(body)
    return sorted(found, key=lambda body: -body.score)


def _body(rig: Rig, leg_pair: Pair, leg_roles: Alignment, arm_pair: Pair, arm_roles: Alignment) -> _Body | None:
    leg_at, arm_at = dict(leg_roles.roles), dict(arm_roles.roles)
    leg_m = float(rig.length[list(leg_pair.first[leg_at["upper_leg"] + 1 : leg_at["foot"] + 1])].sum())
    arm_m = float(rig.length[list(arm_pair.first[arm_at["upper_arm"] + 1 : arm_at["hand"] + 1])].sum())
    if leg_m <= 0 or arm_m <= 0:
        return None
    taken = set(arm_pair.first + arm_pair.second)
    shoulders = (arm_pair.first[arm_at["upper_arm"]], arm_pair.second[arm_at["upper_arm"]])
    trunk = trunk_between(rig, leg_pair.holder, arm_pair.holder, taken, leg_m, arm_m, shoulders)
    if trunk is None:
        return None
    score = leg_roles.score + arm_roles.score + trunk.score + 1.5 * (leg_pair.twin + arm_pair.twin)
    score += _bell(leg_m / arm_m, 1.5, 0.45) + 1.0 * min(leg_m / rig.size, 0.6) + 0.6 * min(arm_m / rig.size, 0.5)
    return _Body(score, leg_pair, leg_roles, arm_pair, arm_roles, trunk)


def _answers(rig: Rig, bodies: list[_Body], findings: list[Finding]) -> dict[str, Answer]:
    best = bodies[0]
    limbs = best.leg_roles.bones(best.legs) | best.arm_roles.bones(best.arms)
    sides, limbs = tell_sides(rig, limbs, best.trunk.bones)
    if sides.disagree:
        message = f"left and right: {sides.reason}; taken so, the other reading is the mirror image"
        remedy = "Look at it, and correct the profile if it is mirrored"
        findings.append(Finding("sides-disagree", "warning", rig.figure.name, message, remedy))
    answers: dict[str, Answer] = {}
    for role, bone in best.trunk.bones.items():
        if not role.startswith("eye_"):
            lead, other = _trunk_lead(role, bone, bodies)
            reasons, quality = [_trunk_reason(rig, role, best)], best.trunk.score / 4.0
            answers[role] = _answer(rig, role, bone, lead, other, 1.0, reasons, quality=quality)
    for role, pair in limbs.items():
        lead, others = _limb_lead(role, pair, bodies)
        leg = role in dict(best.leg_roles.roles)
        twin, quality = (best.legs if leg else best.arms).twin, (best.leg_roles if leg else best.arm_roles).score / 3.0
        for side, bone, partner, other in _both(sides, pair, others):
            why = [
                _limb_reason(rig, role, best),
                f"pairs with ‹{rig.skeleton.names[partner]}›",
                f"{side}: {sides.reason}",
            ]
            full = f"{role}_{side}"
            answers[full] = _answer(rig, full, bone, lead, other, twin, why, sides.sure, quality=quality)
    for side, hand, _, _ in _both(sides, limbs["hand"], None):
        fingers = fingers_of(rig, hand)
        for finger in fingers:
            for part, bone in finger.bones:
                role = f"{part}_{side}"
                where = [f"on the {side} hand", f"the {finger.name} of {len(fingers)} fingers by its place"]
                answers[role] = _answer(rig, role, bone, finger.lead, None, 1.0, where, sides.sure, finger.named)
    if "eye_first" in best.trunk.bones:
        eyes = (best.trunk.bones["eye_first"], best.trunk.bones["eye_second"])
        across = rig.places[limbs["upper_leg"][0]] - rig.places[limbs["upper_leg"][1]]
        if float((rig.places[eyes[0]] - rig.places[eyes[1]]) @ across) < 0:
            eyes = (eyes[1], eyes[0])
        for side, bone, _, _ in _both(sides, eyes, None):
            lead = 2.0 if rig.meanings[bone].parts else 0.6
            answers[f"eye_{side}"] = _answer(rig, f"eye_{side}", bone, lead, None, 1.0, ["in the face"], sides.sure)
    return answers


def _answer(
    rig: Rig,
    role: str,
    bone: int,
    lead: float,
    other: int | None,
    twin: float,
    reasons: list[str],
    sure: float = 1.0,
    named: float | None = None,
    quality: float = 1.0,
) -> Answer:
    name = fit(rig.names[bone], role) if named is None else named
    said = rig.skeleton.names[bone]
    if name > 0.3:
        reasons = [*reasons, f"named ‹{said}›"]
    elif name < -0.3:
        reasons = [*reasons, f"although it is named ‹{said}›"]
    features = {
        "lead": float(np.clip(lead, 0.0, _MOST_LEAD)),
        "close": float(np.clip(1.0 - lead / _CLOSE_LEAD, 0.0, 1.0)),
        "named": max(name, 0.0),
        "misnamed": min(name, 0.0),
        "twin": twin - 1.0,
        "quality": float(np.clip(quality, -2.0, 1.0)),
    }
    odds = CALIBRATION["constant"] + sum(CALIBRATION[key] * value for key, value in features.items())
    confidence = float(sure / (1.0 + np.exp(-odds)))
    return Answer(bone, round(confidence, 3), tuple(reasons), other if lead < 1.0 else None, features, sure)


def _both(
    sides: Sides, pair: tuple[int, int], others: tuple[int, int] | None
) -> list[tuple[str, int, int, int | None]]:
    """(side, bone, its partner, next best bone) for left and right."""
    order = (0, 1) if sides.first_is_left else (1, 0)
    return [
        (side, pair[i], pair[1 - i], others[i] if others else None)
        for side, i in zip(("left", "right"), order, strict=True)
    ]


def _limb_lead(role: str, pair: tuple[int, int], bodies: list[_Body]) -> tuple[float, tuple[int, int] | None]:
    """By how much the best body beats the best one in which other bones have this role."""
    for body in bodies[1:]:
        bones = body.leg_roles.bones(body.legs) | body.arm_roles.bones(body.arms)
        if role in bones and set(bones[role]) != set(pair):
            return bodies[0].score - body.score, bones[role]
    return _NO_RIVAL, None


def _trunk_lead(role: str, bone: int, bodies: list[_Body]) -> tuple[float, int | None]:
    if role == "head" and len(bodies[0].trunk.heads) > 1:
        heads = bodies[0].trunk.heads
        return heads[0][0] - heads[1][0], heads[1][1]
    if role.startswith("neck_") and len(bodies[0].trunk.heads) > 1:
        heads = bodies[0].trunk.heads
        return heads[0][0] - heads[1][0], None
    for body in bodies[1:]:
        if body.trunk.bones.get(role, bone) != bone:
            return bodies[0].score - body.score, body.trunk.bones[role]
    return _NO_RIVAL, None


def _limb_reason(rig: Rig, role: str, body: _Body) -> str:
    leg = role in dict(body.leg_roles.roles)
    pair, roles = (body.legs, body.leg_roles) if leg else (body.arms, body.arm_roles)
    at = dict(roles.roles)[role]
    below = rig.skeleton.names[pair.holder]
    count = len(pair.first)
    return f"below ‹{below}›, {_ordinal(at + 1)} of {count} in line"


def _trunk_reason(rig: Rig, role: str, body: _Body) -> str:
    if role == "hips":
        return "legs and spine part here"
    if role == "root":
        return "above the hips, carries all"
    if role.startswith("spine_"):
        count = sum(other.startswith("spine_") for other in body.trunk.bones)
        return f"between legs and arms, {_ordinal(int(role[6:]))} of {count}"
    if role.startswith("neck_"):
        return "between arms and head"
    return "above the arms, the end of the neck" if role == "head" else "in the face"


def _ordinal(number: int) -> str:
    words = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh")
    return words[number - 1] if number <= len(words) else f"{number}th"


def _no_body(rig: Rig) -> str:
    pairs = limb_pairs(rig)
    if not pairs:
        return "no humanoid: no two legs were found, no branches of like length that mirror each other"
    if len(pairs) == 1:
        names = " and ".join(f"‹{rig.skeleton.names[b]}›" for b in (pairs[0].first[0], pairs[0].second[0]))
        return f"no humanoid: one pair of limbs was found ({names}), legs and arms are needed"
    return "no humanoid: pairs of limbs were found, but none that are legs and arms of one body"


def _with_rest(rig: Rig, answers: dict[str, Answer], findings: list[Finding]) -> Identification:
    """Sort what has no role: helpers, ends, second copies, and extras."""
    role_of = {answer.bone: role for role, answer in answers.items()}
    helper = {
        bone: (role_of[parent], round(fraction, 2))
        for bone, (parent, fraction) in rig.helpers.items()
        if parent in role_of
    }
    duplicates = []
    known = list(role_of)
    away = np.array([np.linalg.norm(rig.places - rig.places[bone], axis=1) for bone in known])
    for bone in np.flatnonzero(away.min(axis=0) <= 0.003 * rig.size).tolist() if known else ():
        twin = known[int(np.argmin(away[:, bone]))]
        if bone in role_of or bone in rig.hollow or twin in rig.ancestors(bone):
            continue
        if rig.meanings[bone].parts == rig.meanings[twin].parts and bone not in rig.ends:
            duplicates.append((bone, twin))
    second = {bone for bone, _ in duplicates}
    used = set(role_of) | set(helper) | rig.ends | second
    extra = tuple(bone for bone in range(rig.count) if bone not in used)
    names = rig.skeleton.names
    unsure = [
        f"{role} ‹{names[answer.bone]}› or ‹{names[answer.other]}›"
        for role, answer in answers.items()
        if answer.other is not None and answer.confidence < 0.9
    ]
    if unsure:
        rows = ", ".join(unsure)
        message = f"two bones fit nearly alike, the first was taken: {rows}"
        findings.append(Finding("bone-unsure", "note", rig.figure.name, message))
    return Identification(
        rig.figure.name, answers, helper, tuple(sorted(rig.ends)), extra, tuple(duplicates), tuple(findings)
    )
