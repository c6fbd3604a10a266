"""From a pair of legs and a pair of arms: hips, spine, neck, head, root, and the face."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from fairswap.bones.limbs import _bell
from fairswap.bones.rig import Rig
from fairswap.model.rotation import normalized
from fairswap.model.words import fit


@dataclass(frozen=True)
class Trunk:
    """The bones of the trunk by role, the alternatives for the head with their scores, and how well it all fits."""

    bones: dict[str, int]
    heads: list[tuple[float, int]]
    score: float


def trunk_between(
    rig: Rig, legs_at: int, arms_at: int, taken: set[int], leg_m: float, arm_m: float, shoulders: tuple[int, int]
) -> Trunk | None:
    """Read the trunk between where the legs and the arms hang; None if these cannot be one body's."""
    above_legs, above_arms = rig.ancestors(legs_at), rig.ancestors(arms_at)
    meeting = next((bone for bone in above_arms if bone in set(above_legs)), -1)
    if meeting < 0 or meeting == arms_at != legs_at:
        return None
    spine = list(reversed(above_arms[: above_arms.index(meeting)]))
    hips = meeting
    if meeting == legs_at and not spine:
        return None  # legs and arms on one bone: no spine
    above = rig.parents[legs_at]
    if meeting == legs_at and above >= 0 and _called(rig, legs_at, "spine") and _called(rig, above, "hips"):
        # Some makers hang the legs on the first bone of the spine. The pelvis turns with the legs, and is above it.
        hips, spine = above, [legs_at, *spine]
    score = 2.0 if meeting == legs_at else 1.0 if rig.parents[legs_at] == meeting else -0.5
    spine_m = float(rig.length[spine].sum())
    score += _bell(spine_m / leg_m, 0.55, 0.6) - 0.08 * max(0, len(spine) - 6)
    bones = {"hips": hips}
    bones |= {f"spine_{i + 1}": bone for i, bone in enumerate(spine)}
    score += 0.8 * fit(rig.names[hips], "hips") + 0.5 * float(np.mean([fit(rig.names[b], "spine_1") for b in spine]))
    if rig.parents[hips] >= 0:
        bones["root"] = rig.ancestors(hips)[-1]
    legs_way = rig.places[rig.chain(legs_at)[-1]] - rig.places[hips]
    if float((rig.places[arms_at] - rig.places[hips]) @ legs_way) < 0:
        score += 0.7
    middle = rig.places[list(shoulders)].mean(axis=0)
    found = _neck_and_head(rig, arms_at, taken, arm_m, middle, rig.places[arms_at] - rig.places[hips])
    if found is None:
        return Trunk(bones, [], score - 2.0)
    necks, heads = found
    head = heads[0][1]
    neck = necks[head]
    if not neck and len(spine) > 1 and _called(rig, arms_at, "neck"):
        # Some makers hang the arms on the neck. It turns with the head; the chest is below it.
        neck = [bones.pop(f"spine_{len(spine)}")]
    bones |= {f"neck_{i + 1}": bone for i, bone in enumerate(neck)}
    bones["head"] = head
    bones |= _face(rig, head, rig.places[head] - rig.places[hips])
    return Trunk(bones, heads, score + min(heads[0][0], 3.0))


def _called(rig: Rig, bone: int, part: str) -> bool:
    return rig.meanings[bone].parts == {part}


def _neck_and_head(
    rig: Rig, chest: int, taken: set[int], arm_m: float, shoulders: np.ndarray, upward: np.ndarray
) -> tuple[dict[int, list[int]], list[tuple[float, int]]] | None:
    """All bones above the chest that may be the head, best first, each with the bones of the neck below it."""
    necks: dict[int, list[int]] = {}
    scored: list[tuple[float, int]] = []
    leaves = [child for child in rig.family[chest] if child not in rig.ends]
    for start in leaves:
        if start in taken or start in rig.helpers:
            continue
        run = rig.run(start)
        branches = rig.children[run[-1]]
        called = [bone for bone in branches if _called(rig, bone, "head")]
        if len(branches) >= 2 and len(called) == 1 and not _called(rig, run[-1], "head"):
            run = [*run, *called]  # what protects the neck, say, hangs on it beside the head
        forks = len(rig.children[run[-1]]) >= 2
        for at, bone in enumerate(run[:5]):
            # The head turns about a quarter of an arm above the line of the shoulders.
            height = float(np.linalg.norm(rig.places[bone] - shoulders))
            score = 1.6 * _bell(height / max(arm_m, 1e-9), 0.28, 0.45)
            score += 2.0 * fit(rig.names[bone], "head")
            score += sum(0.8 * fit(rig.names[b], "neck_1") for b in run[:at]) / max(at, 1)
            score += 0.9 if forks and bone == run[-1] else 0.0
            ended = any(child in rig.ends for child in rig.family[bone])
            score += 0.7 if not forks and (bone == run[-1] or ended) else 0.0
            # A long last stretch is the skull itself: its upper end is not a joint.
            if not forks and bone == run[-1] and at >= 1 and not ended:
                score -= 1.1 * float(np.clip(rig.length[bone] / max(rig.length[run[at - 1]], 1e-9) - 1.15, 0.0, 1.0))
            score -= 0.5 if at == 0 and len(run) > 1 else 0.0
            way = rig.places[bone] - rig.places[chest]
            score += 0.5 * float(np.sign(way @ upward))
            if rig.weight is not None and rig.weight[bone] <= 0:
                score -= 1.0
            scored.append((score, bone))
            necks[bone] = run[:at]
    if not scored:
        return None
    return necks, sorted(scored, key=lambda row: (-row[0], row[1]))


def _mirrored_pair(rig: Rig, a: int, b: int, up: np.ndarray, ahead: np.ndarray) -> bool:
    """Whether two bones of a face are mirror images: equally far from the head's joint, and straight across."""
    apart = rig.places[a] - rig.places[b]
    wide = float(np.linalg.norm(apart))
    alike = abs(rig.length[a] - rig.length[b]) < 0.06 * rig.length[a]
    skewed = max(abs(float(apart @ up)), abs(float(apart @ normalized(ahead))))
    return alike and wide > 0.1 * rig.length[a] and skewed < 0.1 * wide


def _face(rig: Rig, head: int, up: np.ndarray) -> dict[str, int]:
    """Jaw and eyes, by their names; without names by their places among the leaves in the face.

    Of the pairs in the upper face the eyes lie least ahead: lids and brows are on the surface.
    """
    children = [child for child in rig.family[head] if child not in rig.ends]
    found: dict[str, int] = {}
    named = [c for c in children if not rig.meanings[c].parts & {"extra", "helper"}]
    jaws = [c for c in named if "jaw" in rig.meanings[c].parts]
    eyes = [c for c in named if "eye" in rig.meanings[c].parts]
    leaves = [c for c in children if not rig.children[c] and not rig.meanings[c].parts]
    up = normalized(up)
    middle = (rig.places[children] - rig.places[head]).mean(axis=0) if children else up
    ahead = middle - (middle @ up) * up
    pairs = [(a, b) for a, b in combinations(leaves, 2) if _mirrored_pair(rig, a, b, up, ahead)]
    if len(eyes) != 2 and pairs:
        heights = [float((rig.places[list(pair)].mean(axis=0) - rig.places[head]) @ up) for pair in pairs]
        upper = [pair for pair, height in zip(pairs, heights, strict=True) if height > 0.5 * max(heights)]
        nearest = sorted(
            (float((rig.places[list(pair)].mean(axis=0) - rig.places[head]) @ ahead), pair) for pair in upper
        )
        eyes = list(nearest[0][1]) if nearest else []
    if len(eyes) == 2:
        found["eye_first"], found["eye_second"] = eyes
        if not jaws:  # what is alone and nearer than the eyes; lips are further ahead, and may hang on it
            paired = {bone for pair in pairs for bone in pair}
            plain = [c for c in children if not rig.meanings[c].parts and c not in paired]
            alone = sorted((float(rig.length[c]), c) for c in plain if rig.length[c] < rig.length[eyes[0]])
            jaws = [bone for _, bone in alone[:1]]
    if jaws:
        found["jaw"] = jaws[0]
    return found
