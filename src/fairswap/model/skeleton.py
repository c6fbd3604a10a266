"""Skeletons, and the way from local to world transforms for all frames at once."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from hashlib import blake2b

import numpy as np

from fairswap.model.arrays import Floats, Integers, Value, read_only
from fairswap.model.kernels import multiply_into, place_constant_into, rotate_into
from fairswap.model.rotation import conjugate, matrix_from_quaternion, multiply
from fairswap.model.words import meaning_of

# Up to here one call per level of the tree is cheaper than one per bone: the calls cost more than the numbers.
_SHORT_CLIP_FRAMES = 1000
# Numbers that are kept to work in, at most: 8 MB.
_MOST_KEPT = 2**20
_KEPT = threading.local()


@dataclass(frozen=True, eq=False)
class Skeleton(Value):
    """Bones as a tree, parents before children, with the rest pose. Skeletons with the same content are equal.

    >>> import fairswap
    >>> skeleton = fairswap.load(fairswap.demo_file("pip.glb")).figure.skeleton
    >>> skeleton, skeleton.names[:3], skeleton.parents[:3]
    (<Skeleton of 30 bones>, ('seat', 'back', 'nape'), array([-1,  0,  1]))
    >>> skeleton == fairswap.load(fairswap.demo_file("pip.glb")).figure.skeleton
    True

    Attributes
    ----------
    names : tuple of str
        One per bone; they need not differ.
    parents : (bones,) integers
        Index of the parent, -1 for a root; always smaller than the bone's own index.
    rest_rotations : (bones, 4) array
        Local rest rotations, relative to the parent.
    rest_translations : (bones, 3) array
        Local rest positions in metres, relative to the parent.
    ends : frozenset of int
        Bones that only mark where their parent ends.

    Raises
    ------
    UsageError
        If shapes do not fit, a parent does not come before its children, a number is not finite, or a rotation is not
        of unit length.
    """

    names: tuple[str, ...]
    parents: Integers
    rest_rotations: Floats
    rest_translations: Floats
    ends: frozenset[int] = frozenset()

    def __post_init__(self) -> None:
        object.__setattr__(self, "names", tuple(self.names))
        object.__setattr__(self, "ends", frozenset(self.ends))
        bones = len(self.names)
        self.freeze("parents", (bones,), integers=True)
        self.freeze("rest_rotations", (bones, 4))
        self.check_unit("rest_rotations", -1)
        self.freeze("rest_translations", (bones, 3))
        if not ((self.parents >= -1) & (self.parents < np.arange(bones))).all():
            raise self.wrong("a bone comes before its parent")
        if not all(0 <= bone < bones for bone in self.ends):
            raise self.wrong("an end names a bone that is not there")

    def __repr__(self) -> str:
        return f"<Skeleton of {len(self)} bones>"

    @cached_property
    def _digest(self) -> bytes:
        """What tells this skeleton from others, worked out once."""
        arrays = (self.parents, self.rest_rotations, self.rest_translations)
        text = "\0".join((*self.names, *map(str, sorted(self.ends))))
        return blake2b(
            b"".join((text.encode("utf-8", "surrogatepass"), *(array.tobytes() for array in arrays)))
        ).digest()

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Skeleton) and self._digest == other._digest)

    def __hash__(self) -> int:
        return hash(self._digest)

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def children(self) -> tuple[tuple[int, ...], ...]:
        """The children of each bone, in order."""
        lists: list[list[int]] = [[] for _ in self.names]
        for bone, parent in enumerate(self.parents.tolist()):
            if parent >= 0:
                lists[parent].append(bone)
        return tuple(map(tuple, lists))

    @cached_property
    def tips(self) -> frozenset[int]:
        """Bones that only mark where another ends: those of ``ends``, and leaves called so in formats without such."""
        called = (
            bone for bone in range(len(self)) if not self.children[bone] and "end" in meaning_of(self.names[bone]).parts
        )
        return self.ends.union(called)

    @cached_property
    def levels(self) -> tuple[Integers, ...]:
        """Bones by their depth in the tree, roots first."""
        depth = np.zeros(len(self), dtype=np.intp)
        for bone, parent in enumerate(self.parents.tolist()):
            if parent >= 0:
                depth[bone] = depth[parent] + 1
        order = np.argsort(depth, kind="stable")
        return tuple(np.split(order, np.flatnonzero(np.diff(depth[order])) + 1)) if len(self) else ()

    @cached_property
    def rest(self) -> WorldTransforms:
        """World transforms of the rest pose: one frame."""
        return world_of_pose(self, self.rest_rotations).read_only()

    def with_ancestors(self, bones: Iterable[int]) -> list[int]:
        """``bones`` and all above them, parents first."""
        found: set[int] = set()
        for bone in bones:
            while bone >= 0 and bone not in found:
                found.add(bone)
                bone = int(self.parents[bone])
        return sorted(found)

    def below(self, bone: int) -> Integers:
        """All bones that hang on ``bone``, itself left out."""
        inside = np.zeros(len(self), dtype=bool)
        inside[bone] = True
        for other, parent in enumerate(self.parents[bone + 1 :].tolist(), bone + 1):
            inside[other] = parent >= 0 and inside[parent]
        inside[bone] = False
        return np.flatnonzero(inside)

    @cached_property
    def labels(self) -> tuple[str, ...]:
        """The names for people: of bones of one name, each with its number among them.

        >>> Skeleton(("hips", "bone", "bone"), [-1, 0, 0], [[0, 0, 0, 1]] * 3, [[0, 0, 0]] * 3).labels
        ('hips', 'bone (1)', 'bone (2)')
        """
        counts, seen = Counter(self.names), Counter[str]()
        out = []
        for name in self.names:
            seen[name] += 1
            out.append(name if counts[name] == 1 else f"{name} ({seen[name]})")
        return tuple(out)

    def path(self, bone: int) -> str:
        """The bone with all above it, ``hips/spine/chest``: tells equal names apart."""
        names = []
        while bone >= 0:
            names.append(self.names[bone])
            bone = int(self.parents[bone])
        return "/".join(reversed(names))


@dataclass(frozen=True, eq=False)
class WorldTransforms:
    """World rotations ``(bones, 4, frames)`` and positions ``(bones, 3, frames)``, frames last and contiguous.

    ``stretched`` has the world matrices ``(3, 3, frames)`` of the bones whose size changes, and of all below them.
    """

    rotation_tracks: Floats
    position_tracks: Floats
    stretched: Mapping[int, Floats] = field(default_factory=dict)

    @classmethod
    def empty(cls, bones: int, frames: int) -> WorldTransforms:
        return cls(np.empty((bones, 4, frames)), np.empty((bones, 3, frames)))

    def read_only(self) -> WorldTransforms:
        """Itself, from now on not to be written to."""
        read_only(self.rotation_tracks)
        read_only(self.position_tracks)
        return self

    @property
    def rotations(self) -> Floats:
        """View ``(frames, bones, 4)``."""
        return self.rotation_tracks.transpose(2, 0, 1)

    @property
    def positions(self) -> Floats:
        """View ``(frames, bones, 3)``, metres."""
        return self.position_tracks.transpose(2, 0, 1)


def world_of_stretched(
    skeleton: Skeleton,
    rotation_tracks: Floats,
    translation_of: Callable[[int], Floats],
    stretches: Mapping[int, Floats],
    world: WorldTransforms,
) -> WorldTransforms:
    """The world transforms ``world``, with what bones whose size changes do to themselves and to all below them.

    ``stretches`` are by bone the matrices ``(3, 3, frames)`` in its own axes, ``translation_of`` gives the local
    positions ``(3, frames)`` of a bone. ``world`` is written to.
    """
    linear: dict[int, Floats] = {}
    for bone, parent in enumerate(skeleton.parents.tolist()):
        above = linear.get(parent)
        if above is not None:
            held = np.broadcast_to(translation_of(bone), (3, rotation_tracks.shape[2]))
            world.position_tracks[bone] = world.position_tracks[parent] + np.einsum("ijf,jf->if", above, held)
        if above is not None or bone in stretches:
            turns = world.rotation_tracks if above is None else rotation_tracks
            own = matrix_from_quaternion(turns[bone].T).transpose(1, 2, 0)
            whole = own if above is None else np.einsum("ijf,jkf->ikf", above, own)
            linear[bone] = np.einsum("ijf,jkf->ikf", whole, stretches[bone]) if bone in stretches else whole
    return replace(world, stretched=linear)


def world_from_local(
    skeleton: Skeleton,
    rotation_tracks: Floats,
    translated_bones: Integers,
    translation_tracks: Floats,
    out: WorldTransforms | None = None,
) -> WorldTransforms:
    """World transforms of all bones in all frames.

    Parameters
    ----------
    rotation_tracks : (bones, 4, frames) array
        Local rotations.
    translated_bones, translation_tracks : (moved,), (moved, 3, frames) arrays
        The bones whose local position is not that of the rest pose, and their positions in metres.
    out : WorldTransforms, optional
        Written into and returned; must have the right shapes.
    """
    bones, _, frames = rotation_tracks.shape
    if out is None:
        out = WorldTransforms.empty(bones, frames)
    by_level = frames <= _SHORT_CLIP_FRAMES
    (_by_level if by_level else _by_bone)(skeleton, rotation_tracks, translated_bones, translation_tracks, out)
    return out


def world_of_pose(skeleton: Skeleton, rotations: Floats) -> WorldTransforms:
    """World transforms, one frame, of the pose with these local rotations ``(bones, 4)``, joints where they rest."""
    nothing = np.empty(0, dtype=np.intp)
    return world_from_local(skeleton, rotations[:, :, None], nothing, np.empty((0, 3, 1)))


def local_rotations(skeleton: Skeleton, world: Floats) -> Floats:
    """Local rotations ``(bones, 4)`` of a pose from those in the world ``(bones, 4)``."""
    above = np.where(skeleton.parents[:, None] >= 0, world[skeleton.parents], [0.0, 0.0, 0.0, 1.0])
    return multiply(conjugate(above), world)


def world_rotations(skeleton: Skeleton, rotation_tracks: Floats, bones: Sequence[int], out: Floats) -> Floats:
    """World rotations of ``bones`` alone, into ``out`` ``(all bones, 4, frames)``; other rows are left as they are.

    ``bones`` are in order and hold the parents of all their members.
    """
    scratch = np.empty(rotation_tracks.shape[2])
    for bone in bones:
        parent = int(skeleton.parents[bone])
        if parent < 0:
            out[bone] = rotation_tracks[bone]
        else:
            multiply_into(out[bone], out[parent], rotation_tracks[bone], scratch)
    return out


def _by_bone(
    skeleton: Skeleton, local: Floats, translated_bones: Integers, translation_tracks: Floats, out: WorldTransforms
) -> None:
    moved = dict(zip(translated_bones.tolist(), translation_tracks, strict=True))
    offsets = skeleton.rest_translations.tolist()
    scratch = np.empty((4, local.shape[2]))
    rotations, positions = out.rotation_tracks, out.position_tracks
    for bone, parent in enumerate(skeleton.parents.tolist()):
        track = moved.get(bone)
        if parent < 0:
            rotations[bone] = local[bone]
            positions[bone] = skeleton.rest_translations[bone][:, None] if track is None else track
            continue
        if track is None:
            place_constant_into(positions[bone], positions[parent], rotations[parent], offsets[bone], scratch)
        else:
            rotate_into(positions[bone], rotations[parent], track, scratch)
            positions[bone] += positions[parent]
        multiply_into(rotations[bone], rotations[parent], local[bone], scratch[0])


def _by_level(
    skeleton: Skeleton, local: Floats, translated_bones: Integers, translation_tracks: Floats, out: WorldTransforms
) -> None:
    """Few calls on large blocks: bones in the order of their levels, so that a level is one slice."""
    bones, _, frames = local.shape
    order = np.concatenate(skeleton.levels)
    place_of = np.empty(bones, dtype=np.intp)
    place_of[order] = np.arange(bones)
    above = place_of[skeleton.parents[order]]  # of roots some bone, not used
    spans, start = [], 0
    for level in skeleton.levels:
        spans.append(slice(start, start + len(level)))
        start += len(level)
    ordered, rotations, scratch, spare = _memory((4, 4, bones, frames))
    for part, rows in enumerate(ordered):
        np.take(local[:, part], order, axis=0, out=rows, mode="clip")
    rotations[:, spans[0]] = ordered[:, spans[0]]
    for span in spans[1:]:
        multiply_into(rotations[:, span], _rows(rotations, above[span], spare), ordered[:, span], scratch[0, span])
    # What a bone's place adds to its parent's depends on no other place: all at once, and once more where it moves.
    first = spans[0].stop
    offsets, positions = skeleton.rest_translations[order].T[:, :, None], ordered[:3]
    positions[:, :first] = offsets[:, :first]
    turned = _rows(rotations, above[first:], spare)
    rotate_into(positions[:, first:], turned, offsets[:, first:], scratch[:, first:])
    at, tracks = place_of[translated_bones], translation_tracks.transpose(1, 0, 2)
    roots, others = at < first, at >= first
    positions[:, at[roots]] = tracks[:, roots]
    if others.any():
        moved, work = np.empty((2, 4, int(others.sum()), frames))
        rotate_into(moved[:3], turned[:, at[others] - first], tracks[:, others], work)
        positions[:, at[others]] = moved[:3]
    for span in spans[1:]:
        positions[:, span] += _rows(positions, above[span], scratch)
    out.rotation_tracks[order] = rotations.transpose(1, 0, 2)
    out.position_tracks[order] = positions.transpose(1, 0, 2)


def parents_first(parents: Sequence[int]) -> list[int]:
    """The bones in an order in which each comes after what it hangs on, else as they were."""
    placed, order = set[int](), list[int]()
    for bone in range(len(parents)):
        way = []
        while bone >= 0 and bone not in placed:
            way.append(bone)
            bone = parents[bone]
        order += reversed(way)
        placed |= set(way)
    return order


def _rows(tracks: Floats, bones: Integers, memory: Floats) -> Floats:
    """Those of some bones, of tracks ``(numbers, bones, frames)``, in ``memory``: in half the time of an index."""
    shape = (len(tracks), len(bones), tracks.shape[2])
    out = memory.reshape(-1)[: shape[0] * shape[1] * shape[2]].reshape(shape)
    return np.take(tracks, bones, axis=1, out=out, mode="clip")


def _memory(shape: tuple[int, ...]) -> Floats:
    """An array to work in, which this thread keeps: new memory takes longer to be had than to be filled."""
    numbers = int(np.prod(shape))
    if numbers > _MOST_KEPT:
        return np.empty(shape)
    kept = getattr(_KEPT, "memory", None)
    if kept is None or len(kept) < numbers:
        kept = _KEPT.memory = np.empty(numbers)
    return np.asarray(kept[:numbers].reshape(shape))
