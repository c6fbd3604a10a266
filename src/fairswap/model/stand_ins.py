"""A body as we reckon with it, where its file has it otherwise: what it lacks stood in for, limbs hung on the body.

Stand-ins give an arm of one piece an elbow and a wrist. They never bend and are never written; what a motion does with
them is put on the parts that are there (see :mod:`fairswap.retarget.few_parts`). Limbs that a file hangs on something
beside the body hang on the body here. :func:`own_parts` gives back the body as its file has it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.poses import PoseBuilder, Poses
from fairswap.model.rotation import angle_between, conjugate, matrix_from_quaternion, multiply, rotate
from fairswap.model.skeleton import Skeleton, WorldTransforms, parents_first

# Less is rounding: a joint that is where it rests (metres).
_AT_REST_M = 1e-6
# Rotations that differ by less are the same, rounded.
_TURNED = 1e-6
# A stand-in that turns by less than this against what carries it is straight.
_BENT_DEGREES = 0.5


@dataclass(frozen=True)
class Added:
    """One bone to add: its name, the bone that it goes with (itself or an added one), and where it is at rest."""

    name: str
    carrier: str
    place: Floats


@dataclass(frozen=True, eq=False)
class StandIns:
    """What was added to a figure, and what was hung elsewhere.

    Attributes
    ----------
    carriers : mapping of str to str
        For each added bone the one of the file that it goes with, by their names.
    hung : mapping of str to str
        The bones of the file that hang on another one now, with the one that they hang on in the file; nothing for
        those that hang on none there.
    original : Figure or None
        The figure as it is in its file, if that is how it is written.
    skeleton, meshes : Skeleton, tuple of Mesh
        Those of the figure as it was completed.
    free : frozenset of str
        Those added on which all hangs now that hung on what they go with: they turn as they like.
    """

    carriers: Mapping[str, str]
    hung: Mapping[str, str]
    original: Figure | None
    skeleton: Skeleton
    meshes: tuple[Mesh, ...]
    free: frozenset[str] = frozenset()


@dataclass(frozen=True, eq=False)
class _AsInFile:
    """The origin of a clip of a completed figure: the clip as it is in its file."""

    clip: Clip
    poses: Poses


def completed(
    figure: Figure, hips: Added | None, legs: Sequence[int], limbs: Sequence[Added], *, free: bool = False
) -> Figure:
    """The figure with bones added: ``hips`` between its carrier and what that hangs on, which ``legs`` hang on then;
    ``limbs`` each below its carrier. ``free`` are hips on which all of the body hangs then."""
    old = figure.skeleton
    names, parents, own = [], [], []
    for bone, name in enumerate(old.names):
        if hips is not None and name == hips.carrier:
            names.append(hips.name)
            parents.append(old.names[old.parents[bone]] if old.parents[bone] >= 0 else "")
            own.append(-1)
        above = old.names[old.parents[bone]] if old.parents[bone] >= 0 else ""
        names.append(name)
        parents.append(hips.name if hips is not None and (name == hips.carrier or bone in legs) else above)
        own.append(bone)
    for added in limbs:
        names.append(added.name)
        parents.append(added.carrier)
        own.append(-1)
    place, carriers = {}, dict[str, str]()
    for added in (*([hips] if hips is not None else []), *limbs):
        place[added.name] = added.place
        carriers[added.name] = carriers.get(added.carrier, added.carrier)
    at = {name: index for index, name in enumerate(names)}
    rotations, positions = np.empty((len(names), 4)), np.empty((len(names), 3))
    for index, (name, bone) in enumerate(zip(names, own, strict=True)):
        carrier = bone if bone >= 0 else old.names.index(carriers[name])
        rotations[index] = old.rest.rotations[0, carrier]
        positions[index] = old.rest.positions[0, bone] if bone >= 0 else place[name]
    ends = frozenset(index for index, bone in enumerate(own) if bone in old.ends)
    skeleton = _resting(names, [at.get(parent, -1) for parent in parents], rotations, positions, ends)
    rigid = [at[carriers.get(name, name)] for name in names]
    hung = {old.names[leg]: old.names[old.parents[leg]] for leg in legs} if hips is not None else {}
    turning = frozenset({hips.name}) if hips is not None and free else frozenset[str]()
    return _as_reckoned(figure, skeleton, own, rigid, carriers, hung, turning)


def resting_places(skeleton: Skeleton, stood: WorldTransforms, added: Sequence[Added]) -> list[Added]:
    """Bones to add that were placed in the pose ``stood``, where they are at rest."""
    rest, names, carriers, out = skeleton.rest, skeleton.names, dict[str, str](), []
    for bone in added:
        carriers[bone.name] = carriers.get(bone.carrier, bone.carrier)
        by = names.index(carriers[bone.name])
        turn = multiply(rest.rotations[0, by], conjugate(stood.rotations[0, by]))
        place = rest.positions[0, by] + rotate(turn, bone.place - stood.positions[0, by])
        out.append(replace(bone, place=np.asarray(place)))
    return out


def hung_anew(figure: Figure, onto: Mapping[int, int], stood: WorldTransforms) -> Figure:
    """The figure with some bones hung on others, which go where those go.

    Parameters
    ----------
    onto : mapping of int to int
        For each bone to hang elsewhere the one to hang it on, which is not below it.
    stood : WorldTransforms
        A pose of one frame in which each of them is where it belongs, seen from what it hangs on: it rests there now.
    """
    old = figure.skeleton
    above = [onto.get(bone, parent) for bone, parent in enumerate(old.parents.tolist())]
    own = parents_first(above)
    at = {bone: index for index, bone in enumerate(own)}
    rotations, translations = old.rest_rotations.copy(), old.rest_translations.copy()
    turns, places = stood.rotations[0], stood.positions[0]
    for bone, carrier in onto.items():
        back = conjugate(turns[carrier])
        rotations[bone] = multiply(back, turns[bone])
        translations[bone] = rotate(back, places[bone] - places[carrier])
    skeleton = Skeleton(
        tuple(old.names[bone] for bone in own), np.array([at.get(above[bone], -1) for bone in own], dtype=np.intp),
        rotations[own], translations[own], frozenset(at[bone] for bone in old.ends),
    )  # fmt: skip
    names = {bone: old.names[parent] if parent >= 0 else "" for bone, parent in enumerate(old.parents.tolist())}
    hung = {old.names[bone]: names[bone] for bone in onto}
    return _as_reckoned(figure, skeleton, own, range(len(own)), {}, hung)


def _as_reckoned(
    figure: Figure, skeleton: Skeleton, own: Sequence[int], rigid: Sequence[int], carriers: Mapping[str, str],
    hung: Mapping[str, str], free: frozenset[str] = frozenset(),
) -> Figure:  # fmt: skip
    """The figure on another skeleton: ``own`` are its bones in it, and what is not, -1, goes with a ``rigid`` one."""
    into = np.array([own.index(bone) for bone in range(len(figure.skeleton))], dtype=np.intp)
    meshes = tuple(_with_bones(mesh, skeleton, into, rigid) for mesh in figure.meshes)
    known = {role: int(into[bone]) for role, bone in figure.known_roles.items()}
    stand_ins = StandIns(carriers, hung, figure, skeleton, meshes, free)
    boxes = figure.bone_boxes
    if boxes is not None:
        boxes = np.full((len(skeleton), 2, 3), np.nan)
        boxes[into] = figure.bone_boxes
    return replace(figure, skeleton=skeleton, meshes=meshes, known_roles=known, stand_ins=stand_ins, bone_boxes=boxes)


def completed_clip(clip: Clip, figure: Figure) -> Clip:
    """A clip of the figure as it is in its file, for the figure as it is reckoned with."""
    stand_ins, skeleton = figure.stand_ins, figure.skeleton
    if stand_ins is None:
        return clip
    into = _places(clip.skeleton, skeleton)
    world, rest = clip.poses.world(), skeleton.rest
    whole = WorldTransforms.empty(len(skeleton), clip.frames)
    whole.rotation_tracks[into], whole.position_tracks[into] = world.rotation_tracks, world.position_tracks
    for name, carrier in stand_ins.carriers.items():
        index, with_it = skeleton.names.index(name), skeleton.names.index(carrier)
        turn = whole.rotation_tracks[with_it].T
        away = rotate(conjugate(rest.rotations[0, with_it]), rest.positions[0, index] - rest.positions[0, with_it])
        whole.rotation_tracks[index] = turn.T
        whole.position_tracks[index] = whole.position_tracks[with_it] + rotate(turn, away).T
    poses = _poses_of(skeleton, whole, clip.poses, into)
    keyed = frozenset(int(into[bone]) for bone in clip.keyed)
    return replace(clip, poses=poses, keyed=keyed, kept=None, origin=_AsInFile(clip, poses))


def document_with(document: Document, whole: Figure, told: Finding) -> Document:
    """The document with its main figure, and the clips of that, as they are reckoned with, and what that tells."""
    own = set(map(id, document.clips_of(document.figure)))
    return replace(
        document,
        figures=tuple(whole if one is document.figure else one for one in document.figures),
        clips=tuple(completed_clip(clip, whole) if id(clip) in own else clip for clip in document.clips),
        findings=(*document.findings, told),
    )


def own_parts(figure: Figure, clips: Sequence[Clip]) -> tuple[Figure, tuple[Clip, ...]]:
    """A figure and its clips without stand-ins, as they are written; as they are where there are none, or where skin
    hangs on them meanwhile, so that they have become bones like others."""
    stand_ins = figure.stand_ins
    if stand_ins is None or not _still_stand_in(figure, stand_ins):
        return figure, tuple(clips)
    skeleton = figure.skeleton
    original = stand_ins.original
    if original is not None and skeleton == stand_ins.skeleton:
        own = original.skeleton
        kept = _places(own, skeleton).tolist()
    else:
        own, kept = _without(skeleton, stand_ins)
    out_of = np.full(len(skeleton), -1, dtype=np.intp)
    out_of[kept] = np.arange(len(kept))
    meshes = original.meshes if original is not None and figure.meshes is stand_ins.meshes else tuple(
        replace(mesh, joints=np.maximum(out_of[mesh.joints], 0), bind_matrices=mesh.bind_matrices[kept])
        for mesh in figure.meshes
    )  # fmt: skip
    known = {role: int(out_of[bone]) for role, bone in figure.known_roles.items() if out_of[bone] >= 0}
    bare = replace(figure, skeleton=own, meshes=meshes, known_roles=known, stand_ins=None)
    return bare, tuple(_own_clip(clip, own, kept, out_of, stand_ins.hung) for clip in clips)


def _without(skeleton: Skeleton, stand_ins: StandIns) -> tuple[Skeleton, list[int]]:
    """A skeleton that was changed since, without what was added and with what was hung elsewhere back where it was; and
    its bones."""
    parents = skeleton.parents.tolist()
    above, names = list(parents), skeleton.names
    for bone, name in enumerate(names):
        if name in stand_ins.hung:
            above[bone] = names.index(stand_ins.hung[name]) if stand_ins.hung[name] in names else -1
        while above[bone] >= 0 and names[above[bone]] in stand_ins.carriers:
            above[bone] = parents[above[bone]]
    kept = [bone for bone in parents_first(above) if names[bone] not in stand_ins.carriers]
    at = {bone: index for index, bone in enumerate(kept)}
    ends = frozenset(at[bone] for bone in kept if bone in skeleton.ends)
    rest = skeleton.rest
    turns, places = rest.rotations[0, kept], rest.positions[0, kept]
    return _resting(
        [names[bone] for bone in kept], [at.get(above[bone], -1) for bone in kept], turns, places, ends
    ), kept


def _own_clip(clip: Clip, own: Skeleton, kept: Sequence[int], out_of: Integers, hung: Collection[str]) -> Clip:
    origin = clip.origin
    if isinstance(origin, _AsInFile) and origin.poses is clip.poses and origin.clip.skeleton == own:
        return replace(origin.clip, name=clip.name, made=clip.made)
    world = clip.poses.world()
    bare = WorldTransforms(world.rotation_tracks[kept], world.position_tracks[kept])
    poses = _poses_of(own, bare, clip.poses, out_of)
    keyed = frozenset(int(out_of[bone]) for bone in clip.keyed if out_of[bone] >= 0)
    if any(out_of[bone] < 0 for bone in clip.keyed):  # the way of the hips is that of what carries them
        keyed |= frozenset(poses.translated_bones.tolist())
    # What hangs elsewhere in the file is carried there by keys of its own.
    apart = {bone for bone, name in enumerate(own.names) if name in hung}
    turned = np.abs(poses.rotation_tracks - own.rest_rotations[:, :, None]).max(axis=(1, 2), initial=0.0) > _TURNED
    keyed |= frozenset(apart & {*np.flatnonzero(turned).tolist(), *poses.translated_bones.tolist()})
    return replace(clip, poses=poses, keyed=keyed, kept=None, origin=None)


def hung_for_good(figure: Figure) -> Figure:
    """The figure with its limbs where they hang here, to be written so; one that something stands in for stays as it
    is."""
    stand_ins = figure.stand_ins
    return figure if stand_ins is None or stand_ins.carriers else replace(figure, stand_ins=None)


def told_by_bones(figure: Figure) -> Figure:
    """The figure for a file of bones alone, where no mesh tells a reader what is lacking: limbs hang where they hang
    here, and hips, hands and feet that are stood in for are bones like others. A limb of one piece stays one."""
    stand_ins = figure.stand_ins
    if stand_ins is None:
        return figure
    carried = Counter(stand_ins.carriers.values())
    stiff = {name: carrier for name, carrier in stand_ins.carriers.items() if carried[carrier] > 1}
    return replace(figure, stand_ins=replace(stand_ins, carriers=stiff, hung={}, original=None) if stiff else None)


def bent(figure: Figure, clip: Clip) -> list[str]:
    """The stand-ins that do not go rigidly with what carries them in a clip: what they do there is not written."""
    stand_ins, names = figure.stand_ins, figure.skeleton.names
    if stand_ins is None or not _still_stand_in(figure, stand_ins):
        return []
    world, rest = clip.poses.world().rotations, figure.skeleton.rest.rotations[0]
    found = []
    for name, carrier in stand_ins.carriers.items():
        own, with_it = names.index(name), names.index(carrier)
        turned = multiply(conjugate(world[:, with_it]), world[:, own])
        resting = multiply(conjugate(rest[with_it]), rest[own])
        if np.degrees(angle_between(turned, resting)).max() > _BENT_DEGREES:
            found.append(name)
    return found


def _still_stand_in(figure: Figure, stand_ins: StandIns) -> bool:
    names = figure.skeleton.names
    there = all(names.count(name) == 1 for name in (*stand_ins.carriers, *stand_ins.carriers.values()))
    skin = figure.skin_on_bones
    return there and (skin is None or not any(skin[names.index(name)] > 0.0 for name in stand_ins.carriers))


def _places(part: Skeleton, whole: Skeleton) -> Integers:
    """The index in ``whole`` of each bone of ``part``, by their names, which are each there once."""
    at = {name: index for index, name in enumerate(whole.names)}
    return np.array([at[name] for name in part.names], dtype=np.intp)


def _resting(
    names: Sequence[str], parents: Sequence[int], rotations: Floats, positions: Floats, ends: frozenset[int]
) -> Skeleton:
    """A skeleton from where its bones are in the world at rest."""
    above = np.array(parents, dtype=np.intp)
    turn = np.where(above[:, None] >= 0, rotations[above], [0.0, 0.0, 0.0, 1.0])
    origin = np.where(above[:, None] >= 0, positions[above], 0.0)
    back = conjugate(turn)
    return Skeleton(tuple(names), above, multiply(back, rotations), rotate(back, positions - origin), ends)


def _with_bones(mesh: Mesh, skeleton: Skeleton, into: Integers, rigid: Sequence[int]) -> Mesh:
    """A mesh bound to a skeleton with more bones, each of which goes rigidly with one that it had."""
    bind = np.empty((len(skeleton), 4, 4))
    bind[into] = mesh.bind_matrices
    rest = np.tile(np.eye(4), (len(skeleton), 1, 1))
    rest[:, :3, :3] = matrix_from_quaternion(skeleton.rest.rotations[0])
    rest[:, :3, 3] = skeleton.rest.positions[0]
    for bone, carrier in enumerate(rigid):
        if bone != carrier:
            bind[bone] = np.linalg.inv(rest[bone]) @ rest[carrier] @ bind[carrier]
    return replace(mesh, joints=into[mesh.joints], bind_matrices=bind)


def _poses_of(skeleton: Skeleton, world: WorldTransforms, like: Poses, into: Integers) -> Poses:
    """The poses of a skeleton that stand so in the world; what is beside the bones goes along from ``like``."""
    frames = world.rotation_tracks.shape[2]
    rotations, moved = np.empty((len(skeleton), 4, frames)), {}
    for bone, parent in enumerate(skeleton.parents.tolist()):
        turn, place = world.rotation_tracks[bone].T, world.position_tracks[bone].T
        if parent >= 0:
            back = conjugate(world.rotation_tracks[parent].T)
            turn, place = multiply(back, turn), rotate(back, place - world.position_tracks[parent].T)
        rotations[bone] = turn.T
        if np.abs(place - skeleton.rest_translations[bone]).max(initial=0.0) > _AT_REST_M:
            moved[bone] = place.T
    stretches = tuple(replace(track, bone=int(into[track.bone])) for track in like.stretches)
    return PoseBuilder(skeleton, rotations, moved, like.morph_tracks, like.beside).poses(stretches=stretches)


def stand_in_bones(figure: Figure) -> frozenset[int]:
    """The bones of a figure that are not in its file."""
    stand_ins = figure.stand_ins
    if stand_ins is None:
        return frozenset()
    return frozenset(bone for bone, name in enumerate(figure.skeleton.names) if name in stand_ins.carriers)


def instead_of(figure: Figure) -> dict[int, int]:
    """The stand-ins on which all hangs now that hung on what they go with, by that bone."""
    free = figure.stand_ins.free if figure.stand_ins is not None else ()
    return {carrier_of(figure, bone): bone for bone in stand_in_bones(figure) if figure.skeleton.names[bone] in free}


def stiff_bones(figure: Figure) -> frozenset[int]:
    """The bones that are not in the file, and can do nothing that a bone of it does not do, too."""
    return stand_in_bones(figure) - set(instead_of(figure).values())


def carrier_of(figure: Figure, bone: int) -> int:
    """The bone of the file that a stand-in goes with; of any other bone itself."""
    stand_ins, names = figure.stand_ins, figure.skeleton.names
    carrier = stand_ins.carriers.get(names[bone]) if stand_ins is not None else None
    return bone if carrier is None else names.index(carrier)


def bone_in_file(figure: Figure, bone: int) -> int:
    """Which bone of the file a bone is, or goes with: its index there."""
    if figure.stand_ins is None:
        return bone
    name = figure.skeleton.names[carrier_of(figure, bone)]
    if figure.stand_ins.original is None:
        return figure.skeleton.names.index(name)
    return figure.stand_ins.original.skeleton.names.index(name)
