"""Give a figure another rest pose: bones, meshes and clips changed so that what they show stays what it was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.clip import Clip, Poses
from fairswap.figure import Figure, deformed_vertices
from fairswap.kernels import Floats
from fairswap.pose.measure import Standing, joint_turns
from fairswap.pose.reference import turned_rotations
from fairswap.rotation import angle_between, conjugate, quaternion_from_axis_angle, rotate
from fairswap.skeleton import Skeleton, local_rotations
from fairswap.skinning import bound_at_rest, rebound_mesh

# Less than this is rounding: the bone rests as it did.
_SAME_DEGREES, _SAME_M = 1e-6, 1e-9
_FRAMES_MEASURED = 5


@dataclass(frozen=True, eq=False)
class Rested:
    """A figure with its new rest pose, its clips, and what that cost.

    ``moved_degrees`` is how far each bone's rest was turned, by name; ``kept_skins`` are the meshes that stay bound in
    a pose of their own. ``skin_mean_mm`` and ``skin_worst_mm`` say how far vertices of the clips are from where they
    were: skin bends a little differently from another rest pose.
    """

    figure: Figure
    clips: tuple[Clip, ...]
    moved_degrees: Mapping[str, float]
    kept_skins: tuple[str, ...]
    skin_mean_mm: float
    skin_worst_mm: float


def turns_of_a(degrees: float) -> dict[str, Floats]:
    """The A-pose: a T with the arms lowered by ``degrees``; joints' turns by role."""
    return {
        f"upper_arm_{side}": quaternion_from_axis_angle(np.array([0.0, 0.0, -sign]), np.radians(degrees))
        for side, sign in (("left", 1.0), ("right", -1.0))
    }


def posed_rotations(side: Standing, turns: Mapping[str, Floats], *, onto_rest: bool = False) -> Floats:
    """World rotations ``(bones, 4)`` of a figure in a pose given as turns of joints away from the neutral T.

    Joints without a turn are in the T; with ``onto_rest``, as they are in the figure's own base pose.
    """
    if onto_rest:
        turns = joint_turns(side) | dict(turns)
    return turned_rotations(side.figure.skeleton, side.roles, side.reference.rotations, turns)


def rest_skeleton(side: Standing, world: Floats) -> Skeleton:
    """The skeleton resting with the world rotations ``(bones, 4)``; the hips so high that the feet keep the ground."""
    skeleton, roles = side.figure.skeleton, side.roles
    parents = skeleton.parents
    local = local_rotations(skeleton, world)
    same = np.degrees(angle_between(local, skeleton.rest_rotations)) < _SAME_DEGREES
    local[same] = skeleton.rest_rotations[same]
    out = replace(skeleton, rest_rotations=local)
    feet = [roles.bones[role] for role in roles.bones if role.startswith(("foot_", "toes_"))]
    hips = roles.bones["hips"]
    stands = out.rest.positions[0]
    ground = float(side.base.world.positions[0, feet, 1].min())
    if side.base.resting is not None:  # the rest pose says nothing: the ground is where straight legs reach to
        straight = replace(skeleton, rest_rotations=local_rotations(skeleton, side.reference.rotations)).rest.positions[
            0
        ]
        ground = float(straight[feet, 1].min() + side.reference.hips[1] - straight[hips, 1])
    shift = np.array([side.reference.hips[0], 0.0, side.reference.hips[2]]) - stands[hips]
    shift[1] = ground - stands[feet, 1].min()
    if np.linalg.norm(shift) < _SAME_M:
        return out
    parent = int(parents[hips])
    places = skeleton.rest_translations.copy()
    places[hips] += shift if parent < 0 else rotate(conjugate(out.rest.rotations[0, parent]), shift)
    return replace(out, rest_translations=places)


def with_rest(figure: Figure, clips: Sequence[Clip], skeleton: Skeleton, skin: str = "auto") -> Rested:
    """The figure and its clips on ``skeleton``, which has the same bones in another rest pose.

    Clips show the same bones in the same places.

    Parameters
    ----------
    skin : str
        ``bind``: meshes are bound to the new rest pose, as most programs expect; setting the old pose again brings them
        back exactly. ``keep``: they stay bound as they are, and move exactly as before. ``auto`` binds those that are
        bound to the old rest pose, and keeps those that are bound in a pose of their own.
    """
    old = figure.skeleton
    turned = np.degrees(angle_between(skeleton.rest_rotations, old.rest_rotations))
    shifted = np.linalg.norm(skeleton.rest_translations - old.rest_translations, axis=1) > _SAME_M
    changed = frozenset(np.flatnonzero((turned > 0) | shifted).tolist())
    new_clips = tuple(_rebased(clip, skeleton, np.flatnonzero(shifted), changed) for clip in clips)
    meshes = tuple(
        rebound_mesh(mesh, skeleton) if skin == "bind" or (skin == "auto" and bound_at_rest(mesh, old)) else mesh
        for mesh in figure.meshes
    )
    result = replace(figure, skeleton=skeleton, meshes=meshes)
    kept = tuple(new.name for new, mesh in zip(meshes, figure.meshes, strict=True) if new is mesh and mesh.skinned)
    mean, worst = _skin_difference(figure, clips, result, new_clips)
    moved = {skeleton.names[bone]: float(turned[bone]) for bone in np.flatnonzero(turned > 0).tolist()}
    return Rested(result, new_clips, moved, kept, mean, worst)


def _rebased(clip: Clip, skeleton: Skeleton, shifted: np.ndarray, changed: frozenset[int]) -> Clip:
    """The same motion on another rest: what rested without keys is keyed where it rested."""
    poses, frames = clip.poses, clip.frames
    bones = np.union1d(poses.translated_bones, shifted).astype(np.intp)
    tracks = np.stack([np.broadcast_to(poses.translation_track(bone), (3, frames)) for bone in bones.tolist()] or
                      [np.empty((3, frames))])[: len(bones)]  # fmt: skip
    new = Poses(skeleton, poses.rotation_tracks, bones, np.ascontiguousarray(tracks), poses.morph_tracks)
    return replace(clip, poses=new, keyed=clip.keyed | changed, origin=None)


def _skin_difference(
    before: Figure, old_clips: Sequence[Clip], after: Figure, new_clips: Sequence[Clip]
) -> tuple[float, float]:
    """Mean and worst distance in millimetres between the vertices of both, in a few frames of each clip."""
    means, worst = [0.0], 0.0
    for old, new in zip(old_clips, new_clips, strict=True):
        frames = np.unique(np.linspace(0, old.frames - 1, _FRAMES_MEASURED).round())
        poses = old.poses.at(frames), new.poses.at(frames)
        worlds = [each.world() for each in poses]
        for number, (mesh, other) in enumerate(zip(before.meshes, after.meshes, strict=True)):
            if mesh is other:
                continue
            for frame in range(len(frames)):
                a = deformed_vertices(mesh, worlds[0], frame, poses[0], number)
                b = deformed_vertices(other, worlds[1], frame, poses[1], number)
                apart = np.linalg.norm(a - b, axis=1)
                means.append(float(apart.mean()))
                worst = max(worst, float(apart.max()))
    used = means[1:] or means
    return 1000.0 * float(np.mean(used)), 1000.0 * worst
