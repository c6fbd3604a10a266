"""The pose that a reference is worked out from: the rest pose, a frame of a clip, all rotations zero, or another file.

Whatever is chosen, the figure is stood up and turned ahead, and the hips keep their resting place: none is motion.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import permutations, product

import numpy as np

from fairswap.bones.assignment import roles_of
from fairswap.bones.roles import SIDES, RoleMap
from fairswap.errors import ImpossibleError, UsageError
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import (
    IDENTITY,
    angle_between,
    conjugate,
    multiply,
    normalized,
    quaternion_from_axis_angle,
    quaternion_from_matrix,
    rotate,
)
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import Skeleton, WorldTransforms, local_rotations, world_of_pose
from fairswap.model.skinning import bound_pose
from fairswap.model.space import UP
from fairswap.pose.choice import AUTO, PoseChoice
from fairswap.pose.rest import can_stand, stance_of

_FRAMES = 121
# A rest pose is stood up only where it is off by more than a lean or a twist of the trunk, and then to a right angle if
# it is near one.
_LEANS_DEGREES, _SQUARE_DEGREES = 30.0, 20.0
_UPRIGHT = 1.0 - 1e-9
# What tells which way a body looks; and from where on it looks aside, if hips and shoulders do so alike.
_ACROSS, _ASIDE_DEGREES = ("upper_leg", "upper_arm"), 4.0
# A rest pose is a moment of a motion if its worst bend is larger by this than where the meshes were bound; it is a
# frame of a clip if no bone is further from it.
_STRAIGHTER_DEGREES, _SAME_FRAME_DEGREES = 5.0, 0.5
# Arms that rest less unlike than this may be meant so.
_UNLIKE_DEGREES = 10.0
# Hips within this share of the height they have standing rest as high as standing.
_NEAR_STANDING = 0.3
# Limbs straighter than this count as straight in a T or an A; knees that are bent more lower the hips.
_STRAIGHT_DEGREES = 20.0


@dataclass(frozen=True, eq=False)
class BasePose:
    """The pose that a reference is worked out from.

    Attributes
    ----------
    world : WorldTransforms
        Of all bones, one frame, standing and facing ahead.
    hips : (3,) array
        Where the hips rest, metres.
    said : str
        Which pose that is and why, for people.
    resting : (bones, 4) array or None
        Local rotations for bones that get no motion, where the rest pose says nothing.
    stands : bool
        Whether the hips rest as high as when the figure stands. Those of one that rests with bent knees, sitting or
        lying do not.
    """

    world: WorldTransforms
    hips: Floats
    said: str
    resting: Floats | None = None
    stands: bool = True


def base_pose(figure: Figure, roles: RoleMap, choice: PoseChoice = AUTO, clip: Clip | None = None) -> BasePose:
    """The pose that is chosen, standing and facing ahead.

    Parameters
    ----------
    choice : PoseChoice
        ``auto`` (the rest pose if a person can stand like that, once stood up, but the pose its meshes were bound in if
        it rests in mid-motion and was bound straighter; else that pose, if a person can stand like that; else the first
        or last frame of ``clip`` if that is a T or an A; else the frame in which a person stands most upright),
        ``rest``, ``zero``, ``frame`` (counted from 0) or ``time`` of ``clip``, a ``figure`` of the same family, whose
        rest pose is taken bone by bone through the roles, or a ``saved`` pose: what it turns away from the T counts as
        the T.

    Raises
    ------
    UsageError
        For a frame or time that the clip does not have, or a choice that is no reference.
    ImpossibleError
        If the other figure is of another family.
    """
    choice.one_of("auto", "rest", "zero", "frame", "time", "saved", "figure", what="reference pose")
    skeleton = figure.skeleton
    if choice.kind == "rest":
        return _resting(skeleton, roles, clip, "the rest pose, as asked")
    if choice.kind == "zero":
        zero = np.tile(IDENTITY, (len(skeleton), 1))
        world, stands = _posed(skeleton, roles, zero), _stands(skeleton.rest, roles)
        return BasePose(world, _hips(skeleton, roles), "all rotations zero, as asked", stands=stands)
    if choice.kind in ("frame", "time"):
        why = "as asked" if choice.clip is None else "the straightest stand in its clips; it rests in mid-motion"
        found = _from_clip(skeleton, roles, choice.clip or clip, choice.kind, choice.value, figure.name)
        return replace(found, said=f"{found.said}, {why}")
    if choice.figure is not None:
        return _from_figure(figure, roles, choice.figure, choice.text)
    automatic = _automatic(figure, roles, clip)
    if choice.saved is not None:
        return replace(automatic, said=f"{automatic.said}; the T with the turns of {choice.saved.name}")
    return automatic


def _automatic(figure: Figure, roles: RoleMap, clip: Clip | None) -> BasePose:
    skeleton = figure.skeleton
    bound = _bound(figure, roles)
    rest = _resting(skeleton, roles, clip, "the rest pose")
    if can_stand(rest.world, roles):
        if bound is not None and _in_mid_motion(skeleton, roles, clip, bound.world):
            return replace(bound, said=f"{bound.said}; the file was saved in mid-motion")
        return rest
    if bound is not None:
        return replace(bound, said=f"{bound.said}; nobody can stand in the rest pose")
    if clip is not None:
        frames = frames_across(clip.frames, _FRAMES)
        world = clip.poses.at(frames).world()
        bends = _bends(world, roles)
        ends = [(0, "first"), (len(frames) - 1, "last")]
        for index, name in ends:
            stood = _from_frame(world, index, skeleton, roles, clip)
            if bends[index] < _STRAIGHT_DEGREES and can_stand(stood.world, roles):
                said = f"the {name} frame of {clip.name!r}, a T or an A; nobody can stand in the rest pose"
                return replace(stood, said=said)
        for index in np.argsort(bends, kind="stable").tolist():
            stood = _from_frame(world, index, skeleton, roles, clip)
            if can_stand(stood.world, roles):
                second = frames[index] / float(clip.rate)
                said = (
                    f"worked out from the bones of {clip.name!r} at {second:.2f} s, the straightest stand in it; "
                    f"nobody can stand in the rest pose"
                )
                return replace(stood, said=said)
    return replace(rest, said="the rest pose, although nobody stands like that; no clip shows a better one")


def _bound(figure: Figure, roles: RoleMap) -> BasePose | None:
    """The pose the meshes were bound in, if that is not how they rest, and a person can stand like that."""
    bound = bound_pose(figure)
    if bound is None or not can_stand(bound, roles) or _righting(bound.positions[0], roles) is not None:
        return None
    hips = bound.positions[0, roles.bones["hips"]]
    resting = local_rotations(figure.skeleton, bound.rotations[0])
    aside = _aside(bound.positions[0], roles)
    if aside is not None:
        bound = _about_hips(bound, aside, roles, hips)
    return BasePose(bound, hips, "the pose its meshes were bound in", resting)


def _in_mid_motion(skeleton: Skeleton, roles: RoleMap, clip: Clip | None, bound: WorldTransforms) -> bool:
    """Whether a rest pose is a moment of a motion: its trunk leans, its legs bend or step, or its arms differ, where
    the meshes were bound straight and even; or it is a frame of the clip, less straight than they were bound."""
    rest_stance, bound_stance = (_stance(world.positions[0], roles) for world in (skeleton.rest, bound))
    if (rest_stance > bound_stance + _STRAIGHTER_DEGREES).any():
        return True
    if clip is None or _bends(skeleton.rest, roles)[0] < _bends(bound, roles)[0] + _STRAIGHTER_DEGREES:
        return False
    moved = clip.poses.rotation_tracks
    apart = np.abs(np.einsum("bkf,bk->bf", moved, skeleton.rest_rotations)).min(axis=0)
    return bool(np.degrees(2.0 * np.arccos(np.clip(apart.max(), 0.0, 1.0))) < _SAME_FRAME_DEGREES)


def _stance(places: Floats, roles: RoleMap) -> Floats:
    """How far a pose is from standing straight, and how far the two arms are from mirroring each other, beyond what
    nobody would mend: degrees."""
    at, uneven = {role: places[bone] for role, bone in roles.bones.items()}, []
    for first, last in (("shoulder", "upper_arm"), ("upper_arm", "hand")):
        if all(f"{first}_{side}" in at for side in SIDES):
            left, right = (normalized(at[f"{last}_{side}"] - at[f"{first}_{side}"]) for side in SIDES)
            uneven.append(np.degrees(angle_between(left, right * (-1.0, 1.0, 1.0))) - _UNLIKE_DEGREES)
    return np.concatenate([stance_of(places, roles), uneven])


def _bends(world: WorldTransforms, roles: RoleMap) -> Floats:
    """How far each frame is from standing straight: the worst bend of knees and elbows and lean of trunk and legs."""
    at = {role: world.positions[:, bone] for role, bone in roles.bones.items()}
    up = normalized(at["head"] - at["hips"])
    worst = [angle_between(up, UP)]
    chains = [("upper_leg", "lower_leg", "foot"), ("upper_arm", "lower_arm", "hand")]
    for side in SIDES:
        for chain in chains:
            a, b, c = (at[f"{part}_{side}"] for part in chain)
            worst.append(angle_between(normalized(b - a), normalized(c - b)))
        worst.append(angle_between(normalized(at[f"foot_{side}"] - at[f"upper_leg_{side}"]), -up))
    return np.degrees(np.max(worst, axis=0))


def _resting(skeleton: Skeleton, roles: RoleMap, clip: Clip | None, said: str) -> BasePose:
    world, hips = skeleton.rest, _hips(skeleton, roles)
    about = _righting(world.positions[0], roles)
    if about is None:
        aside = _aside(world.positions[0], roles)
        if aside is not None:
            world, said = _about_hips(world, aside, roles, hips), f"{said}; turned ahead"
        return BasePose(world, hips, said, stands=_stands(world, roles))
    stood, stoops = _stood_up(world, about, skeleton, roles, hips)
    if rotate(about, UP) @ UP > _UPRIGHT:  # it stands, and looks elsewhere: its hips are where they are
        return BasePose(stood, hips, f"{said}; turned ahead", stands=_stands(stood, roles))
    if stoops:
        return BasePose(stood, hips, f"{said}; its stoop taken out", stands=False)
    # It may lie on the ground, or hang in the air on hips that are where they would be standing.
    height = _standing_height(stood, roles, clip)
    place = min((hips.copy(), rotate(about, hips)), key=lambda place: round(abs(float(place[1]) - height), 9))
    if clip is not None and abs(place[1] - height) > 0.02 * height:
        place[1] = height
    stands = abs(place[1] - height) < _NEAR_STANDING * height
    return BasePose(_moved(stood, place - hips), place, f"{said}; stood up and turned ahead", stands=stands)


def _from_clip(skeleton: Skeleton, roles: RoleMap, clip: Clip | None, kind: str, value: float, name: str) -> BasePose:
    if clip is None:
        raise UsageError(f"{name} has no clip to take a {kind} from", remedy="Give rest, zero, or a file")
    frame = value if kind == "frame" else value * float(clip.rate)
    if frame > clip.frames - 1 + 1e-6 or (kind == "frame" and frame != int(frame)):
        last = f"{clip.frames - 1}" if kind == "frame" else f"{clip.duration_s:.3f} s"
        raise UsageError(f"clip {clip.name!r} has no {kind} {value:g}", remedy=f"Its last is {last}")
    world = clip.poses.at([frame]).world()
    hips = _hips(skeleton, roles)
    if can_stand(skeleton.rest, roles):
        stood = _about_hips(world, _facing(world.positions[0], roles), roles, hips)
        return BasePose(stood, hips, f"{kind} {value:g} of {clip.name!r}", stands=_stands(skeleton.rest, roles))
    return replace(_from_frame(world, 0, skeleton, roles, clip), said=f"{kind} {value:g} of {clip.name!r}")


def _from_frame(world: WorldTransforms, index: int, skeleton: Skeleton, roles: RoleMap, clip: Clip) -> BasePose:
    """A frame of a clip whose rest pose says nothing: feet and height are found from the clip, too."""
    one = WorldTransforms(world.rotation_tracks[:, :, [index]], world.position_tracks[:, :, [index]])
    one = _with_flat_feet(one, world, skeleton, roles)
    hips = _hips(skeleton, roles)
    stood = _about_hips(one, _facing(one.positions[0], roles), roles, hips)
    height = _standing_height(stood, roles, clip)
    place = np.array([hips[0], height, hips[2]])
    shown = _moved(stood, place - hips)
    return BasePose(shown, place, "", local_rotations(skeleton, shown.rotations[0]))


def _with_flat_feet(
    one: WorldTransforms, world: WorldTransforms, skeleton: Skeleton, roles: RoleMap
) -> WorldTransforms:
    """Each foot as it is when it stands still and low, whatever it does in this frame."""
    rotations, positions = one.rotation_tracks[:, :, 0].copy(), one.position_tracks[:, :, 0].copy()
    for side in SIDES:
        foot = roles.bones[f"foot_{side}"]
        tip = roles.bones.get(f"toes_{side}", foot)
        where = world.positions[:, [foot, tip]]
        still = np.linalg.norm(np.gradient(where, axis=0), axis=2).sum(axis=1) if len(where) > 1 else np.zeros(1)
        frame = int(np.argmin(still + 0.2 * (where[:, :, 1].sum(axis=1) - where[:, :, 1].sum(axis=1).min())))
        for bone in range(foot, len(skeleton)):
            if bone == foot or foot in skeleton.with_ancestors([bone]):
                rotations[bone] = world.rotations[frame, bone]
                positions[bone] = one.positions[0, foot] + world.positions[frame, bone] - world.positions[frame, foot]
    return WorldTransforms(rotations[:, :, None], positions[:, :, None])


def _standing_height(world: WorldTransforms, roles: RoleMap, clip: Clip | None) -> float:
    """How high the hips are with straight legs, when the ankles are as high as they are when standing in the clip."""
    ankle = 0.0
    if clip is not None:
        frames = frames_across(clip.frames, _FRAMES)
        moving = clip.poses.at(frames).world()
        ankles = np.min([moving.position_tracks[roles.bones[f"foot_{side}"], 1] for side in SIDES], axis=0)
        ankle = float(np.percentile(ankles, 20))
    at = world.positions[0]
    legs = []
    for side in SIDES:
        joints = [at[roles.bones[f"{part}_{side}"]] for part in ("upper_leg", "lower_leg", "foot")]
        legs.append(np.linalg.norm(np.diff(joints, axis=0), axis=1).sum() + at[roles.bones["hips"], 1] - joints[0][1])
    return ankle + float(np.mean(legs))


def _from_figure(figure: Figure, roles: RoleMap, other: Figure, name: str) -> BasePose:
    theirs = roles_of(other, part="reference")
    lacking = [role for role in roles.roles() if role not in theirs.bones and role in roles.bones]
    if len(lacking) > 0.3 * len(roles.bones):
        shown = ", ".join(lacking[:8]) + (" …" if len(lacking) > 8 else "")
        raise ImpossibleError(f"the reference is of another family; it has no {shown}", file=name)
    rotations = figure.skeleton.rest_rotations.copy()
    for role, bone in roles.bones.items():
        if role in theirs.bones:
            rotations[bone] = other.skeleton.rest_rotations[theirs.bones[role]]
    world = _posed(figure.skeleton, roles, rotations)
    stands = _stands(figure.skeleton.rest, roles)
    return BasePose(world, _hips(figure.skeleton, roles), f"the rest pose of {name}, as asked", stands=stands)


def _hips(skeleton: Skeleton, roles: RoleMap) -> Floats:
    return np.asarray(skeleton.rest.positions[0, roles.bones["hips"]])


def _posed(skeleton: Skeleton, roles: RoleMap, rotations: Floats) -> WorldTransforms:
    world = world_of_pose(skeleton, rotations)
    about, hips = _righting(world.positions[0], roles), _hips(skeleton, roles)
    if about is not None:
        return _stood_up(world, about, skeleton, roles, hips)[0]
    about = _aside(world.positions[0], roles)
    return _about_hips(world, IDENTITY if about is None else about, roles, hips)


def _aside(positions: Floats, roles: RoleMap) -> Floats | None:
    """The turn about the vertical that makes a body face ahead which looks a little aside as a whole; None if it looks
    ahead, or is twisted."""
    ways = [positions[roles.bones[f"{part}_left"]] - positions[roles.bones[f"{part}_right"]] for part in _ACROSS]
    hips, shoulders = (float(np.degrees(np.arctan2(way[2], way[0]))) for way in ways)
    if min(abs(hips), abs(shoulders)) < _ASIDE_DEGREES or abs(hips - shoulders) > _ASIDE_DEGREES:
        return None
    return quaternion_from_axis_angle(UP, np.radians(0.5 * (hips + shoulders)))


def _axes(positions: Floats, roles: RoleMap) -> tuple[Floats, Floats]:
    """Which way the body's left and its up are, unit; the up square to the left."""
    directions = [positions[roles.bones[f"{part}_left"]] - positions[roles.bones[f"{part}_right"]] for part in _ACROSS]
    left = normalized(np.sum([normalized(way) for way in directions], axis=0))
    up = positions[roles.bones["head"]] - positions[roles.bones["hips"]]
    return left, normalized(up - (up @ left) * left)


def _facing(positions: Floats, roles: RoleMap) -> Floats:
    """The turn about the vertical that makes the body face ahead."""
    left, _ = _axes(positions, roles)
    return quaternion_from_axis_angle(UP, np.arctan2(left[2], left[0]))


def _righting(positions: Floats, roles: RoleMap) -> Floats | None:
    """The turn that stands a body up facing ahead; None if it does so already, but for a lean."""
    left, up = _axes(positions, roles)
    if np.linalg.norm(left) < 0.5 or np.linalg.norm(up) < 0.5:
        return None
    turn = conjugate(quaternion_from_matrix(np.stack([left, up, np.cross(left, up)], axis=1)))
    if np.degrees(angle_between(turn, IDENTITY)) < _LEANS_DEGREES:
        return None
    if np.degrees(angle_between(up, UP)) < _LEANS_DEGREES:
        turn = _facing(positions, roles)  # a lean is kept, wherever it looks
        if np.degrees(angle_between(turn, IDENTITY)) < _LEANS_DEGREES:
            return None
    square = min(_SQUARE_TURNS, key=lambda other: float(angle_between(other, turn)))
    return square if np.degrees(angle_between(square, turn)) < _SQUARE_DEGREES else turn


def _square_turns() -> list[Floats]:
    """The 24 turns that bring axes to axes."""
    found = []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        matrix = np.zeros((3, 3))
        matrix[range(3), order] = signs
        if np.linalg.det(matrix) > 0:
            found.append(quaternion_from_matrix(matrix))
    return found


_SQUARE_TURNS = _square_turns()


def _about_hips(world: WorldTransforms, about: Floats, roles: RoleMap, hips: Floats) -> WorldTransforms:
    """The first frame turned, with the hips where they rest."""
    rotations, positions = world.rotation_tracks[:, :, 0], world.position_tracks[:, :, 0]
    places = rotate(about, positions - positions[roles.bones["hips"]]) + hips
    return WorldTransforms(multiply(about, rotations)[:, :, None], places[:, :, None])


def _stands(world: WorldTransforms, roles: RoleMap) -> bool:
    """Whether it stands, and so straight that its hips are as high as its legs are long."""
    return can_stand(world, roles) and float(stance_of(world.positions[0], roles)[[2, 4]].max()) < _STRAIGHT_DEGREES


def _stood_up(
    world: WorldTransforms, about: Floats, skeleton: Skeleton, roles: RoleMap, hips: Floats
) -> tuple[WorldTransforms, bool]:
    """The first frame turned, with the hips where they rest; and whether it stoops on legs that the turn would slant.
    Then the trunk alone is turned: legs and head stay, for they stand on the floor and look ahead."""
    stood = _about_hips(world, about, roles, hips)
    slants = [stance_of(one.positions[0], roles)[[1, 3]].max() for one in (world, stood)]
    if not can_stand(world, roles) or slants[1] < slants[0] + 1e-6:
        return stood, False
    ahead = _about_hips(world, _facing(world.positions[0], roles), roles, hips)
    rotations, positions = stood.rotation_tracks.copy(), stood.position_tracks.copy()
    for top in (roles.bones[role] for role in ("upper_leg_left", "upper_leg_right", "head")):
        bones = [top, *skeleton.below(top)]
        rotations[bones] = ahead.rotation_tracks[bones]
        positions[bones] = ahead.position_tracks[bones] + positions[top] - ahead.position_tracks[top]
    return WorldTransforms(rotations, positions), True


def _moved(world: WorldTransforms, shift: Floats) -> WorldTransforms:
    return WorldTransforms(world.rotation_tracks, world.position_tracks + shift[None, :, None])
