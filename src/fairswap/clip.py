"""Clips: named motions of a skeleton, sampled at an exact rate."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike

from fairswap.errors import UsageError
from fairswap.kernels import Floats, Integers
from fairswap.rate import text_from_rate
from fairswap.skeleton import Skeleton, WorldTransforms, world_from_local

if TYPE_CHECKING:
    import pandas

_NO_BONES: Integers = np.empty(0, dtype=np.intp)
# Less travel and turn than this over a whole clip, and nobody sees it move.
_STILL_M, _STILL_DEGREES = 0.002, 0.5


@dataclass(frozen=True, eq=False)
class MorphTrack:
    """Weights ``(morphs, frames)`` of all morph targets of one mesh of the figure."""

    mesh: int
    weights: Floats


@dataclass(frozen=True, eq=False)
class Poses:
    """Local transforms of a skeleton over frames.

    Attributes
    ----------
    rotation_tracks : (bones, 4, frames) array
        Local rotations.
    translated_bones : (moved,) integers
        The bones with a position of their own; all others keep their rest position.
    translation_tracks : (moved, 3, frames) array
        Their local positions in metres.
    morph_tracks : tuple of MorphTrack
    """

    skeleton: Skeleton
    rotation_tracks: Floats
    translated_bones: Integers = field(default_factory=lambda: _NO_BONES)
    translation_tracks: Floats | None = None
    morph_tracks: tuple[MorphTrack, ...] = ()

    @property
    def frames(self) -> int:
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
        out[:, self.translated_bones] = self._moved.transpose(2, 0, 1)
        return out

    @property
    def _moved(self) -> Floats:
        return np.empty((0, 3, self.frames)) if self.translation_tracks is None else self.translation_tracks

    def translation_track(self, bone: int) -> Floats:
        """Local positions ``(3, frames)`` of one bone; of a resting bone one column ``(3, 1)``."""
        place = np.flatnonzero(self.translated_bones == bone)
        return self._moved[place[0]] if len(place) else self.skeleton.rest_translations[bone][:, None]

    def world(self, start: int = 0, stop: int | None = None, out: WorldTransforms | None = None) -> WorldTransforms:
        """World transforms of frames ``start`` to ``stop``."""
        span = slice(start, stop)
        return world_from_local(
            self.skeleton, self.rotation_tracks[:, :, span], self.translated_bones, self._moved[:, :, span], out
        )

    def at(self, frame_positions: ArrayLike) -> Poses:
        """The poses at fractional frames ``(n,)``, held before the first and after the last.

        Rotations turn evenly between neighbouring frames (slerp); positions and weights go straight.
        """
        position = np.clip(np.asarray(frame_positions, dtype=np.float64), 0, self.frames - 1)
        before = np.minimum(position.astype(np.intp), max(self.frames - 2, 0))
        after = np.minimum(before + 1, self.frames - 1)
        share = position - before
        exact = np.flatnonzero(share == 0.0)

        def straight(tracks: Floats) -> Floats:
            return tracks[..., before] * (1.0 - share) + tracks[..., after] * share

        turned = np.empty((len(self.skeleton), 4, len(position)))
        for out, track in zip(turned, self.rotation_tracks, strict=True):
            _turned_evenly_into(out, track, before, share, exact)
        return replace(
            self,
            rotation_tracks=turned,
            translation_tracks=straight(self._moved),
            morph_tracks=tuple(MorphTrack(track.mesh, straight(track.weights)) for track in self.morph_tracks),
        )


def _turned_evenly_into(out: Floats, track: Floats, before: Integers, share: Floats, exact: Integers) -> None:
    """Slerp of one track ``(4, frames)`` between its own frames, into ``out`` ``(4, n)``; ``exact`` are shares of zero.

    Angles are worked out once for each pair of frames, however many new ones lie between. The second quaternion of a
    pair is seen as a turn away from the first (Gram and Schmidt), so that two sines make one way.
    """
    if (track == track[:, :1]).all():  # a bone that rests
        out[:] = track[:, :1]
        return
    if len(exact) == len(share):
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
    turn *= share
    np.take(track, before, axis=1, out=out, mode="clip")
    ways = np.take(away, before, axis=1, mode="clip")
    sines = np.sin(turn)
    ways *= sines
    # The cosine of a turn of up to a quarter (half of a half turn), by its sine: a root is quicker than a cosine.
    np.subtract(1.0, np.square(sines, out=sines), out=sines)
    out *= np.sqrt(sines, out=sines)
    out += ways
    out[:, exact] = track[:, before[exact]]


@dataclass(frozen=True, eq=False)
class KeptKeys:
    """The frames of each bone's keys, in order, for rotations and for places; what is between goes straight."""

    rotations: Mapping[int, Integers]
    places: Mapping[int, Integers]


@dataclass(frozen=True, eq=False)
class Clip:
    """A named motion: poses at an exact rate.

    Attributes
    ----------
    rate : Fraction
        Frames per second. A clip of N frames lasts (N - 1) / rate seconds.
    keyed : frozenset of int
        The bones that the file holds keys for.
    origin : object
        Set by the reader: where in its file the clip stands, so that an unchanged clip is written back as it was.
    kept : KeptKeys or None
        After thinning: which frames are written as keys; without, every frame is.
    """

    name: str
    rate: Fraction
    poses: Poses
    keyed: frozenset[int] = frozenset()
    origin: Any = None
    kept: KeptKeys | None = None

    @property
    def skeleton(self) -> Skeleton:
        return self.poses.skeleton

    @property
    def frames(self) -> int:
        return self.poses.frames

    @property
    def duration_s(self) -> float:
        return float((self.frames - 1) / self.rate)

    @property
    def rotations(self) -> Floats:
        """Local rotations, a view ``(frames, bones, 4)``."""
        return self.poses.rotations

    @property
    def translations(self) -> Floats:
        """Local positions of all bones, a new array ``(frames, bones, 3)`` in metres."""
        return self.poses.translations

    def world(self) -> WorldTransforms:
        """World transforms of all bones in all frames."""
        return self.poses.world()

    def at(self, times_s: ArrayLike) -> Poses:
        """The poses at any times in seconds ``(n,)``; before and after the clip its ends are held."""
        return self.poses.at(np.asarray(times_s, dtype=np.float64) * float(self.rate))

    @cached_property
    def travel_m(self) -> float:
        """How far over the ground the first bone with a changing position gets, start to end."""
        for bone in self.poses.translated_bones.tolist():
            track = self.poses.translation_track(bone)
            if np.ptp(track, axis=1).max() > 1e-6:
                ends = np.stack([self.poses.world(f, f + 1).positions[0, bone] for f in (0, self.frames - 1)])
                return float(np.hypot(*(ends[1] - ends[0])[[0, 2]]))
        return 0.0

    @cached_property
    def still(self) -> bool:
        """Whether nothing in it moves: often the rest pose, exported as one more clip."""
        moved = self.poses._moved
        if moved.size and np.ptp(moved, axis=2).max() > _STILL_M:
            return False
        if any(np.ptp(track.weights, axis=1).max(initial=0.0) > 0.005 for track in self.poses.morph_tracks):
            return False
        limit = np.cos(np.radians(_STILL_DEGREES) / 2)
        return all(np.abs(track[:, 0] @ track).min() > limit for track in self.poses.rotation_tracks)

    def bone(self, name: str) -> int:
        """The index of the bone called ``name``.

        Raises
        ------
        UsageError
            If there is none, or more than one.
        """
        found = [index for index, other in enumerate(self.skeleton.names) if other == name]
        if len(found) != 1:
            what = "no bone" if not found else f"{len(found)} bones"
            raise UsageError(f"clip {self.name!r} has {what} called {name!r}")
        return found[0]

    def table(self) -> pandas.DataFrame:
        """World positions in metres as a pandas table: one row per frame, columns (bone, axis).

        Needs pandas: ``pip install "fairswap[table]"``.
        """
        import pandas

        positions = self.world().positions
        columns = pandas.MultiIndex.from_product([self.skeleton.names, ["x", "y", "z"]], names=["bone", "axis"])
        seconds = pandas.Index(np.arange(self.frames) / float(self.rate), name="seconds")
        return pandas.DataFrame(positions.reshape(self.frames, -1), index=seconds, columns=columns)

    def __repr__(self) -> str:
        rate = text_from_rate(self.rate)
        return (
            f"<Clip {self.name!r}: {self.frames} frames at {rate}, {self.duration_s:.2f} s, {len(self.skeleton)} bones>"
        )

    def _repr_html_(self) -> str:
        facts = {
            "frames": self.frames,
            "rate": text_from_rate(self.rate),
            "seconds": f"{self.duration_s:.2f}",
            "bones": len(self.skeleton),
            "keyed bones": len(self.keyed),
            "travel": f"{self.travel_m:.2f} m",
        }
        return html_card("Clip", self.name, facts)


def html_card(kind: str, name: str, facts: dict[str, object]) -> str:
    """A small table for notebooks."""
    from html import escape

    rows = "".join(f"<tr><th>{escape(key)}</th><td>{escape(str(value))}</td></tr>" for key, value in facts.items())
    return f"<table><caption>{escape(kind)} <b>{escape(name)}</b></caption>{rows}</table>"
