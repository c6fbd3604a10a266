"""Left and right: from the way the toes and the trunk point, and from side words; said aloud where the two disagree."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fairswap.bones.rig import Rig


@dataclass(frozen=True)
class Sides:
    """Whether the first of each pair is left, how sure that is (0..1), why, and whether names say the opposite."""

    first_is_left: bool
    sure: float
    reason: str
    disagree: bool


def tell_sides(
    rig: Rig, limbs: dict[str, tuple[int, int]], trunk: dict[str, int]
) -> tuple[Sides, dict[str, tuple[int, int]]]:
    """Which of the pairs ``role -> (bone, bone)`` is left; pairs are turned so that all firsts are on one side."""
    hips, chest = rig.places[trunk["hips"]], rig.places[trunk.get("head", trunk["hips"])]
    up = chest - hips
    up /= np.linalg.norm(up) + 1e-12
    across = rig.places[limbs["upper_leg"][0]] - rig.places[limbs["upper_leg"][1]]
    shoulders = limbs["upper_arm"]
    if float((rig.places[shoulders[0]] - rig.places[shoulders[1]]) @ across) < 0:
        arms = [role for role in limbs if role in ("shoulder", "upper_arm", "lower_arm", "hand")]
        limbs = limbs | {role: (limbs[role][1], limbs[role][0]) for role in arms}
    ahead, shown, sure = None, "", 0.93
    for tip, said_of_it in _TIPS:
        if ahead is None:
            ahead, shown = _ahead(rig, limbs, up, tip), said_of_it
    if ahead is None:
        ahead, shown, sure = _knees(rig, limbs, trunk["hips"], up)
    votes = [_side_vote(rig, pair) for pair in limbs.values()]
    said = float(np.sum(votes))
    if ahead is not None:
        left = np.cross(up, ahead)
        by_shape = float(across @ left) > 0
        if said != 0.0 and (said > 0) != by_shape:
            if abs(said) >= 3.0:
                reason = f"the names say so, although {shown} otherwise"
                return Sides(said > 0, 0.6, reason, True), limbs
            return Sides(by_shape, 0.6, f"{shown}, against the names", True), limbs
        reason = shown + (", and the names agree" if said else "")
        return Sides(by_shape, 0.99 if said else sure, reason, False), limbs
    if said != 0.0:
        return Sides(said > 0, 0.97, "the names say so; nothing shows the front", False), limbs
    guess = float(np.cross(up, [0.0, 0.0, 1.0]) @ across) >= 0
    return Sides(guess, 0.55, "nothing shows the front: taken to face as the file's axes do", False), limbs


def _ahead(
    rig: Rig, limbs: dict[str, tuple[int, int]], up: np.ndarray,
    tip_of: Callable[[Rig, dict[str, tuple[int, int]], int], np.ndarray | None],
) -> np.ndarray | None:  # fmt: skip
    """The way the feet point, square to the trunk, from the ankles to their tips; None if nothing tells."""
    directions = []
    for number in (0, 1):
        ankle, tip = rig.places[limbs["foot"][number]], tip_of(rig, limbs, number)
        if tip is not None:
            # From the ankle down the shin's way is no pointing: only what is square to it counts.
            shin = ankle - rig.places[limbs["lower_leg"][number]]
            shin /= np.linalg.norm(shin) + 1e-12
            directions.append(tip - ankle - ((tip - ankle) @ shin) * shin)
    if not directions:
        return None
    way = np.mean(directions, axis=0)
    if np.linalg.norm(way) < 0.04 * rig.distance(limbs["foot"][0], limbs["lower_leg"][0]):
        return None
    way = way - (way @ up) * up
    return way if np.linalg.norm(way) > 1e-9 else None


def _toes(rig: Rig, limbs: dict[str, tuple[int, int]], number: int) -> np.ndarray | None:
    """Where the toes of a foot begin."""
    return np.asarray(rig.places[limbs["toes"][number]]) if "toes" in limbs else None


def _foot_skin(rig: Rig, limbs: dict[str, tuple[int, int]], number: int) -> np.ndarray | None:
    """The middle of the skin that a foot holds."""
    meshes, foot = rig.figure.meshes, limbs["foot"][number]
    held = [points[mesh.main_bones == foot] for mesh, points in zip(meshes, rig.figure.rest_vertices, strict=True)]
    return np.concatenate(held).mean(axis=0) if any(map(len, held)) else None


def _hung_on_foot(rig: Rig, limbs: dict[str, tuple[int, int]], number: int) -> np.ndarray | None:
    """Where the first is of what hangs on a foot: its end, mostly."""
    hung = rig.family[limbs["foot"][number]]
    return np.asarray(rig.places[hung[0]]) if hung else None


# What shows which way feet point, the surest first.
_TIPS = (
    (_toes, "the toes show the front"),
    (_foot_skin, "the skin of the feet shows the front"),
    (_hung_on_foot, "what hangs on the feet shows the front"),
)


def _knees(
    rig: Rig, limbs: dict[str, tuple[int, int]], hips: int, up: np.ndarray
) -> tuple[np.ndarray | None, str, float]:
    """The way the knees bend, in a clip if there is one, else at rest; with what to say, and how sure that is."""
    legs = [(limbs["upper_leg"][i], limbs["lower_leg"][i], limbs["foot"][i]) for i in (0, 1)]
    if rig.motion is not None:
        way = rig.motion.knees_ahead(hips, legs)
        way = way - (way @ up) * up
        if np.linalg.norm(way) > 0.01:
            return way, "the knees bend to the front in the clip", 0.95
    directions = []
    for thigh, shin, foot in legs:
        line = rig.places[foot] - rig.places[thigh]
        out = rig.places[shin] - rig.places[thigh]
        directions.append((out - (out @ line) / (line @ line + 1e-12) * line) / (np.linalg.norm(line) + 1e-12))
    rest = np.mean(directions, axis=0)
    rest = rest - (rest @ up) * up
    if np.linalg.norm(rest) > 0.003:
        return rest, "the knees are bent a little to the front", 0.85
    return None, "", 0.0


def _side_vote(rig: Rig, pair: tuple[int, int]) -> float:
    """+1 if the names of a pair call the first left, -1 right, 0 if they say nothing or the same of both."""
    first, second = (rig.meanings[bone].side for bone in pair)
    if first == second:
        return 0.0
    if first == "left" or second == "right":
        return 1.0
    return -1.0
