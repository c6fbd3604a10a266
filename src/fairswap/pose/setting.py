"""Give a figure another rest pose: bones, meshes and clips changed so that what they show stays what it was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import angle_between, conjugate, quaternion_from_axis_angle, rotate
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import Skeleton, local_rotations
from fairswap.model.skinning import bound_at_rest, rebound_mesh
from fairswap.pose.base import base_pose
from fairswap.pose.choice import PoseChoice
from fairswap.pose.measuring import joint_turns
from fairswap.pose.reference import turned_rotations
from fairswap.pose.rigged import RiggedFigure

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


def posed_rotations(rigged: RiggedFigure, turns: Mapping[str, Floats], *, onto_rest: bool = False) -> Floats:
    """World rotations ``(bones, 4)`` of a figure in a pose given as turns of joints away from the neutral T.

    Joints without a turn are in the T; with ``onto_rest``, as they are in the figure's own base pose.
    """
    if onto_rest:
        turns = joint_turns(rigged) | dict(turns)
    return turned_rotations(rigged.skeleton, rigged.roles, rigged.reference.rotations, turns)


def posed_as(rigged: RiggedFigure, choice: PoseChoice, clip: Clip | None = None) -> dict[str, Floats]:
    """How each joint is turned away from the neutral T in the pose that is chosen, by role.

    ``choice`` is as for :func:`fairswap.pose.base.base_pose`.
    """
    return joint_turns(rigged, base_pose(rigged.figure, rigged.roles, choice, clip).world)


def skeleton_resting_in(rigged: RiggedFigure, choice: PoseChoice, clip: Clip | None = None) -> Skeleton:
    """The skeleton of a figure resting in the pose that is chosen.

    Parameters
    ----------
    choice : PoseChoice
        ``t``; ``a`` (arms below level); ``rest``; ``zero``; ``frame`` and ``time`` of ``clip``; a ``saved`` pose, of
        which only the roles it names are set; or another ``figure``, whose pose is taken over role by role, of whatever
        family it is.

    Raises
    ------
    UsageError
        For frames that are not there.
    """
    choice.one_of("t", "a", "rest", "zero", "frame", "time", "saved", "figure", what="rest pose")
    if choice.kind == "rest":
        return rigged.skeleton
    if choice.kind == "t":
        return rest_skeleton(rigged, rigged.reference.rotations)
    if choice.kind == "a":
        return rest_skeleton(rigged, posed_rotations(rigged, turns_of_a(choice.value)))
    if choice.saved is not None:
        return rest_skeleton(rigged, posed_rotations(rigged, choice.saved.rotations(), onto_rest=True))
    if choice.figure is not None:  # kept parts (spine, shoulders, head) are anatomy and stay
        other = RiggedFigure.of(choice.figure, clip=choice.clip, part="pose")
        return rest_skeleton(rigged, posed_rotations(rigged, joint_turns(other), onto_rest=True))
    world = base_pose(rigged.figure, rigged.roles, choice, clip).world
    return rest_skeleton(rigged, np.ascontiguousarray(world.rotations[0]))


def rest_skeleton(rigged: RiggedFigure, world: Floats) -> Skeleton:
    """The skeleton resting with the world rotations ``(bones, 4)``; the hips so high that the feet keep the ground."""
    skeleton, roles = rigged.skeleton, rigged.roles
    parents = skeleton.parents
    local = local_rotations(skeleton, world)
    same = np.degrees(angle_between(local, skeleton.rest_rotations)) < _SAME_DEGREES
    local[same] = skeleton.rest_rotations[same]
    out = replace(skeleton, rest_rotations=local)
    feet = [roles.bones[role] for role in roles.bones if role.startswith(("foot_", "toes_"))]
    hips = roles.bones["hips"]
    stands = out.rest.positions[0]
    ground = float(rigged.base.world.positions[0, feet, 1].min())
    if rigged.base.resting is not None:  # the rest pose says nothing: the ground is where straight legs reach to
        straight = replace(
            skeleton, rest_rotations=local_rotations(skeleton, rigged.reference.rotations)
        ).rest.positions[0]
        ground = float(straight[feet, 1].min() + rigged.reference.hips[1] - straight[hips, 1])
    shift = np.array([rigged.reference.hips[0], 0.0, rigged.reference.hips[2]]) - stands[hips]
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
    new_clips = clips_on_rest(clips, old, skeleton)
    meshes = tuple(
        rebound_mesh(mesh, skeleton) if skin == "bind" or (skin == "auto" and bound_at_rest(mesh, old)) else mesh
        for mesh in figure.meshes
    )
    result = replace(figure, skeleton=skeleton, meshes=meshes)
    kept = tuple(new.name for new, mesh in zip(meshes, figure.meshes, strict=True) if new is mesh and mesh.skinned)
    mean, worst = skin_difference(figure, clips, result, new_clips)
    moved = {skeleton.names[bone]: float(turned[bone]) for bone in np.flatnonzero(turned > 0).tolist()}
    return Rested(result, new_clips, moved, kept, mean, worst)


def clips_on_rest(clips: Sequence[Clip], old: Skeleton, skeleton: Skeleton) -> tuple[Clip, ...]:
    """Clips of a skeleton on the same bones in another rest pose, showing the same."""
    turned = angle_between(skeleton.rest_rotations, old.rest_rotations) > 0
    shifted = np.linalg.norm(skeleton.rest_translations - old.rest_translations, axis=1) > _SAME_M
    changed = frozenset(np.flatnonzero(turned | shifted).tolist())
    return tuple(_rebased(clip, skeleton, shifted, changed) for clip in clips)


def _rebased(clip: Clip, skeleton: Skeleton, shifted: np.ndarray, changed: frozenset[int]) -> Clip:
    """The same motion on another rest: what rested without keys is keyed where it rested."""
    poses = clip.poses
    translations = {bone: poses.translation_track(bone) for bone in np.flatnonzero(shifted).tolist()}
    moved = translations | poses.translation_by_bone()
    builder = PoseBuilder(skeleton, poses.rotation_tracks, moved, poses.morph_tracks, poses.beside)
    return clip.with_poses(builder.poses(), keyed=clip.keyed | changed)


def skin_difference(
    before: Figure, old_clips: Sequence[Clip], after: Figure, new_clips: Sequence[Clip]
) -> tuple[float, float]:
    """Mean and worst distance in millimetres between the vertices of both, in a few frames of each clip."""
    means, worst = [0.0], 0.0
    for old, new in zip(old_clips, new_clips, strict=True):
        frames = frames_across(old.frames, _FRAMES_MEASURED)
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
