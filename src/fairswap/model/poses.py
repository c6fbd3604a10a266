"""Poses: local transforms of a skeleton over frames, and the builder with which new ones are made of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fairswap.errors import ImpossibleError
from fairswap.model.arrays import Floats, Integers, Value
from fairswap.model.skeleton import Skeleton, WorldTransforms, world_from_local, world_of_stretched

# 800 MB of rotations.
_MOST_NUMBERS = 100_000_000
_NO_BONES: Integers = np.empty(0, dtype=np.intp)


def check_amount(frames: int, bones: int) -> None:
    """Refuse to make more numbers than memory is there for.

    Raises
    ------
    ImpossibleError
        With what would be made.
    """
    if 4 * frames * bones > _MOST_NUMBERS:
        problem = f"that makes {frames} frames of {bones} bones; at most {_MOST_NUMBERS // (4 * bones)} are made"
        raise ImpossibleError(problem, remedy="Cut it first, or take a lower rate")


@dataclass(frozen=True, eq=False)
class MorphTrack(Value):
    """Weights ``(morphs, frames)`` of all morph targets of one mesh of the figure."""

    mesh: int
    weights: Floats

    def __post_init__(self) -> None:
        self.freeze("weights", ("morphs", "frames"))


@dataclass(frozen=True, eq=False)
class BesideTrack(Value):
    """What the file of a clip moves beside the bones, on the same frames: props, cameras, other figures, sizes.

    Attributes
    ----------
    owner : object
        The document that it stands in: only what is written into that document can hold it.
    target : tuple of int and str
        The node there, and what of it: ``rotation``, ``translation``, ``scale`` or ``weights``.
    values : (width, frames) array
    """

    owner: Any
    target: tuple[int, str]
    values: Floats

    def __post_init__(self) -> None:
        self.freeze("values", ("width", "frames"))


@dataclass(frozen=True, eq=False)
class StretchTrack(Value):
    """The changing size of one bone against its size at rest: matrices ``(3, 3, frames)`` in its own axes."""

    bone: int
    matrices: Floats

    def __post_init__(self) -> None:
        self.freeze("matrices", (3, 3, "frames"))


@dataclass(frozen=True, eq=False)
class Poses(Value):
    """Local transforms of a skeleton over frames. Frozen: :meth:`edit` gives a builder for other ones.

    >>> import fairswap
    >>> poses = fairswap.demo_motion("walk").clips[0].poses
    >>> poses, poses.rotation_tracks.flags.writeable
    (<Poses: 181 frames of 79 bones>, False)

    Attributes
    ----------
    rotation_tracks : (bones, 4, frames) array
        Local rotations, unit quaternions.
    translated_bones : (moved,) integers
        The bones with a position of their own; all others keep their rest position.
    translation_tracks : (moved, 3, frames) array
        Their local positions in metres.
    morph_tracks : tuple of MorphTrack
    beside : tuple of BesideTrack
        What else the file moves in this clip; it goes along with cuts, changes of speed and the like.
    stretches : tuple of StretchTrack
        Bones whose size changes, as the skin follows them; what is written of it stands in ``beside``.

    Raises
    ------
    UsageError
        If shapes do not fit, a number is not finite, or a quaternion is not of unit length.
    """

    skeleton: Skeleton
    rotation_tracks: Floats
    translated_bones: Integers = field(default_factory=lambda: _NO_BONES)
    translation_tracks: Floats = None  # type: ignore[assignment]  # none moves: an empty array
    morph_tracks: tuple[MorphTrack, ...] = ()
    beside: tuple[BesideTrack, ...] = ()
    stretches: tuple[StretchTrack, ...] = ()

    def __post_init__(self) -> None:
        self.freeze("rotation_tracks", (len(self.skeleton), 4, "frames"))
        self.check_unit("rotation_tracks", 1)
        self.freeze("translated_bones", ("moved",), integers=True)
        moved = self.translated_bones
        if len(moved) and not (moved.min() >= 0 and moved.max() < len(self.skeleton)):
            raise self.wrong("translated_bones names a bone that is not there")
        if len({*moved.tolist()}) != len(moved):
            raise self.wrong("translated_bones names a bone twice")
        if self.translation_tracks is None:
            object.__setattr__(self, "translation_tracks", np.empty((0, 3, self.frames)))
        self.freeze("translation_tracks", (len(moved), 3, self.frames))
        object.__setattr__(self, "morph_tracks", tuple(self.morph_tracks))
        if any(track.weights.shape[1] != self.frames for track in self.morph_tracks):
            raise self.wrong("a morph track has another number of frames")
        object.__setattr__(self, "beside", tuple(self.beside))
        if any(track.values.shape[1] != self.frames for track in self.beside):
            raise self.wrong("a track beside the figure has another number of frames")
        object.__setattr__(self, "stretches", tuple(self.stretches))
        if any(track.matrices.shape[2] != self.frames for track in self.stretches):
            raise self.wrong("a changing size has another number of frames")

    def __repr__(self) -> str:
        return f"<Poses: {self.frames} frames of {len(self.skeleton)} bones>"

    @property
    def frames(self) -> int:
        """How many there are."""
        return int(self.rotation_tracks.shape[2])

    @property
    def rotations(self) -> Floats:
        """Local rotations, a view ``(frames, bones, 4)``."""
        return self.rotation_tracks.transpose(2, 0, 1)

    @property
    def translations(self) -> Floats:
        """Local positions of all bones, a new array ``(frames, bones, 3)`` in metres."""
        out = np.empty((self.frames, len(self.skeleton), 3))
        out[:] = self.skeleton.rest_translations
        out[:, self.translated_bones] = self.translation_tracks.transpose(2, 0, 1)
        return out

    def rotation_track(self, bone: int) -> Floats:
        """Local rotations ``(4, frames)`` of one bone."""
        return self.rotation_tracks[bone]

    def translation_track(self, bone: int) -> Floats:
        """Local positions ``(3, frames)`` of one bone; of a resting bone one column ``(3, 1)``."""
        row = np.flatnonzero(self.translated_bones == bone)
        return self.translation_tracks[row[0]] if len(row) else self.skeleton.rest_translations[bone][:, None]

    def translation_by_bone(self) -> dict[int, Floats]:
        """The local position track ``(3, frames)`` of each bone that has one of its own."""
        return dict(zip(self.translated_bones.tolist(), self.translation_tracks, strict=True))

    def morph_track(self, mesh: int) -> Floats | None:
        """The weights ``(morphs, frames)`` of one mesh; None of one whose morphs stay as they rest."""
        return next((track.weights for track in self.morph_tracks if track.mesh == mesh), None)

    def edit(self) -> PoseBuilder:
        """A builder that begins with these poses; they stay what they are.

        >>> skeleton = Skeleton(("hips",), [-1], [[0, 0, 0, 1]], [[0, 1, 0]])
        >>> edit = Poses(skeleton, [[[0], [0], [0], [1]]]).edit()
        >>> edit.rotations[:, 0] = [0, 1, 0, 0]
        >>> edit.poses().rotations.tolist()
        [[[0.0, 1.0, 0.0, 0.0]]]
        """
        moved = self.translation_by_bone()
        return PoseBuilder(self.skeleton, self.rotation_tracks.copy(), moved, self.morph_tracks, self.beside)

    def world(self, start: int = 0, stop: int | None = None, out: WorldTransforms | None = None) -> WorldTransforms:
        """World transforms of frames ``start`` to ``stop``."""
        span = slice(start, stop)
        tracks = self.rotation_tracks[:, :, span], self.translated_bones, self.translation_tracks[:, :, span]
        world = world_from_local(self.skeleton, *tracks, out)
        if not self.stretches:
            return world
        moved = {bone: track[:, span] for bone, track in self.translation_by_bone().items()}
        rest = self.skeleton.rest_translations
        stretches = {track.bone: track.matrices[:, :, span] for track in self.stretches}
        return world_of_stretched(
            self.skeleton, tracks[0], lambda bone: moved.get(bone, rest[bone][:, None]), stretches, world
        )

    def at(self, frame_positions: ArrayLike) -> Poses:
        """The poses at fractional frames ``(n,)``, held before the first and after the last.

        Rotations turn evenly between neighbouring frames (slerp); positions and weights go straight.
        """
        position = np.clip(np.asarray(frame_positions, dtype=np.float64), 0, self.frames - 1)
        before = np.minimum(position.astype(np.intp), max(self.frames - 2, 0))
        after = np.minimum(before + 1, self.frames - 1)
        fraction = position - before
        exact = np.flatnonzero(fraction == 0.0)

        def straight(tracks: Floats) -> Floats:
            return tracks[..., before] * (1.0 - fraction) + tracks[..., after] * fraction

        turned = np.empty((len(self.skeleton), 4, len(position)))
        for out, track in zip(turned, self.rotation_tracks, strict=True):
            _turned_evenly_into(out, track, before, fraction, exact)
        return self.with_tracks(turned, straight)

    def picked(self, frames: slice | Integers) -> Poses:
        """Some of the frames: ``picked(slice(10, 20))``, backward ``picked(slice(None, None, -1))``, or by numbers."""
        turned = np.ascontiguousarray(self.rotation_tracks[:, :, frames])
        return self.with_tracks(turned, lambda tracks: np.ascontiguousarray(tracks[..., frames]))

    def with_tracks(
        self, rotation_tracks: Floats, straight: Callable[[Floats], Floats],
        weighed: Callable[[Floats], Floats] | None = None,
    ) -> Poses:  # fmt: skip
        """Other rotations, and what ``straight`` makes of positions and of morph weights, ``(…, frames)``; of weights
        what ``weighed`` makes, if that is given."""
        weighed = weighed or straight
        return replace(
            self,
            rotation_tracks=rotation_tracks,
            translation_tracks=straight(self.translation_tracks),
            morph_tracks=tuple(MorphTrack(track.mesh, weighed(track.weights)) for track in self.morph_tracks),
            beside=tuple(replace(track, values=straight(track.values)) for track in self.beside),
            stretches=tuple(replace(track, matrices=straight(track.matrices)) for track in self.stretches),
        )


class PoseBuilder:
    """Poses in the making: tracks that may be written to, until :meth:`poses` freezes them.

    Attributes
    ----------
    rotation_tracks : (bones, 4, frames) array
    translations : dict of bone to (3, frames) or (3, 1) array
        Local position tracks of the bones that have one of their own; put another array in to change one.
    morph_tracks : sequence of MorphTrack
    beside : sequence of BesideTrack
    """

    def __init__(
        self,
        skeleton: Skeleton,
        rotation_tracks: Floats,
        translations: Mapping[int, Floats] | None = None,
        morph_tracks: tuple[MorphTrack, ...] = (),
        beside: tuple[BesideTrack, ...] = (),
    ) -> None:
        self.skeleton, self.rotation_tracks, self.morph_tracks = skeleton, rotation_tracks, morph_tracks
        self.beside = beside
        self.translations = dict(translations or {})
        self._first = dict(self.translations)
        self._replaced: dict[int, Floats] = {}

    @property
    def frames(self) -> int:
        """How many there are."""
        return int(self.rotation_tracks.shape[2])

    @property
    def rotations(self) -> Floats:
        """Local rotations, a view ``(frames, bones, 4)`` that may be written to."""
        return self.rotation_tracks.transpose(2, 0, 1)

    def turn(self, bone: int, track: Floats) -> None:
        """Give a bone another local rotation track ``(4, frames)``; the one it had first is kept for :meth:`first`."""
        if bone not in self._replaced:
            self._replaced[bone] = self.rotation_tracks[bone].copy()
        self.rotation_tracks[bone] = track

    def picked(self, span: slice) -> PoseBuilder:
        """Some of the frames, to be worked on further; :meth:`first` says of them what it said."""
        morphs = tuple(MorphTrack(track.mesh, track.weights[:, span]) for track in self.morph_tracks)
        beside = tuple(replace(track, values=track.values[:, span]) for track in self.beside)
        out = PoseBuilder(self.skeleton, self.rotation_tracks[:, :, span].copy(), {}, morphs, beside)
        out.translations, out._first = _within(self.translations, span), _within(self._first, span)
        out._replaced = _within(self._replaced, span)
        return out

    def first(self) -> EarlierPoses:
        """The poses as they were before bones were turned by :meth:`turn` and translations exchanged."""
        return EarlierPoses(self.skeleton, self.rotation_tracks, self._replaced, self._first)

    def rotation_track(self, bone: int) -> Floats:
        """Local rotations ``(4, frames)`` of one bone."""
        return self.rotation_tracks[bone]

    def translation_by_bone(self) -> dict[int, Floats]:
        """The local position track of each bone that has one of its own; an entry may be exchanged."""
        return self.translations

    def translation_track(self, bone: int) -> Floats:
        """Local positions ``(3, frames)`` of one bone, also of one that rests."""
        track = self.translations.get(bone, self.skeleton.rest_translations[bone][:, None])
        return np.broadcast_to(track, (3, self.frames))

    def poses(self, **changes: Any) -> Poses:
        """The poses as they are now. The builder's rotation tracks are frozen by it."""
        bones = sorted(self.translations)
        tracks = np.empty((len(bones), 3, self.frames))
        for row, bone in enumerate(bones):
            tracks[row] = self.translations[bone]
        built = {"morph_tracks": self.morph_tracks, "beside": self.beside, **changes}
        return Poses(self.skeleton, self.rotation_tracks, np.array(bones, dtype=np.intp), tracks, **built)


@dataclass(frozen=True, eq=False)
class EarlierPoses:
    """What a builder held at first: read bone by bone and block by block, since of a long clip one copy is enough.

    ``now`` ``(bones, 4, frames)`` are the tracks as they are, ``before`` those of bones that were turned since.
    """

    skeleton: Skeleton
    now: Floats
    before: Mapping[int, Floats]
    translations: Mapping[int, Floats]

    def rotation_track(self, bone: int) -> Floats:
        """Local rotations ``(4, frames)`` of one bone."""
        return self.before.get(bone, self.now[bone])

    def translation_by_bone(self) -> dict[int, Floats]:
        """The local position track of each bone that has one of its own."""
        return dict(self.translations)

    def world(self, start: int = 0, stop: int | None = None) -> WorldTransforms:
        """World transforms of frames ``start`` to ``stop``."""
        return self.poses(slice(start, stop)).world()

    def poses(self, span: slice = slice(None)) -> Poses:
        """Some of the frames, or all, as poses."""
        tracks = self.now[:, :, span].copy()
        for bone, track in self.before.items():
            tracks[bone] = track[:, span]
        return PoseBuilder(self.skeleton, tracks, _within(self.translations, span)).poses()


def _within(tracks: Mapping[int, Floats], span: slice) -> dict[int, Floats]:
    """Some of the frames of each track ``(…, frames)``; of one that rests its only column."""
    return {bone: track[:, span] if track.shape[1] > 1 else track for bone, track in tracks.items()}


def _turned_evenly_into(out: Floats, track: Floats, before: Integers, fraction: Floats, exact: Integers) -> None:
    """Slerp of one track ``(4, frames)`` between its own frames, into ``out`` ``(4, n)``; ``exact`` are shares of zero.

    Angles are worked out once for each pair of frames, however many new ones lie between. The second quaternion of a
    pair is seen as a turn away from the first (Gram and Schmidt), so that two sines make one way.
    """
    if (track == track[:, :1]).all():  # a bone that rests
        out[:] = track[:, :1]
        return
    if len(exact) == len(fraction):
        np.take(track, before, axis=1, out=out, mode="clip")
        return
    first, second = track[:, :-1], track[:, 1:]
    cosine = np.einsum("cf,cf->f", first, second)
    away = second * np.where(cosine < 0.0, -1.0, 1.0)  # the short way
    away -= first * np.abs(cosine)
    sine = np.sqrt(np.einsum("cf,cf->f", away, away))
    angle = np.arctan2(sine, np.abs(cosine))
    away /= np.where(sine > 0.0, sine, 1.0)
    turn = np.take(angle, before, mode="clip")
    turn *= fraction
    np.take(track, before, axis=1, out=out, mode="clip")
    directions = np.take(away, before, axis=1, mode="clip")
    sines = np.sin(turn)
    directions *= sines
    # The cosine of a turn of up to a quarter (half of a half turn), by its sine: a root is quicker than a cosine.
    np.subtract(1.0, np.square(sines, out=sines), out=sines)
    out *= np.sqrt(sines, out=sines)
    out += directions
    out[:, exact] = track[:, before[exact]]
