"""Clips: named motions of a skeleton, sampled at an exact rate."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike

from fairswap.errors import UsageError
from fairswap.model.arrays import Floats, Integers, Value
from fairswap.model.cards import html_card
from fairswap.model.poses import Poses
from fairswap.model.rate import text_from_rate
from fairswap.model.skeleton import Skeleton, WorldTransforms

if TYPE_CHECKING:
    import pandas

# Less travel and turn than this over a whole clip, and nobody sees it move.
_STILL_M, _STILL_DEGREES = 0.002, 0.5


@dataclass(frozen=True, eq=False)
class KeptKeys:
    """The frames of each bone's keys, in order, for rotations and translations; what is between goes straight."""

    rotations: Mapping[int, Integers]
    translations: Mapping[int, Integers]


@dataclass(frozen=True, eq=False)
class Clip(Value):
    """A named motion: poses at an exact rate.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk").clips[0]
    >>> walk, walk.rate, walk.poses.rotation_tracks.shape
    (<Clip 'Walk': 181 frames at 30, 6.00 s, 79 bones>, Fraction(30, 1), (79, 4, 181))

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
    start_s : float
        When its first frame is on the timeline of its file; it is written there again.
    made : mapping or None
        What was decided when it was made from another motion; formats that can, keep it in the file.
    """

    name: str
    rate: Fraction
    poses: Poses
    keyed: frozenset[int] = frozenset()
    origin: Any = None
    kept: KeptKeys | None = None
    start_s: float = 0.0
    made: Mapping[str, Any] | None = None

    def __post_init__(self) -> None:
        if not (isinstance(self.rate, Fraction | int) and self.rate > 0):
            raise self.wrong(f"its rate is {self.rate!r}, not a fraction above zero")
        if not self.poses.frames:
            raise self.wrong("it has no frame")
        if not 0.0 <= self.start_s < np.inf:
            raise self.wrong(f"it starts at {self.start_s!r} s")
        object.__setattr__(self, "rate", Fraction(self.rate))
        object.__setattr__(self, "keyed", frozenset(self.keyed))

    def with_poses(self, poses: Poses, **changes: Any) -> Clip:
        """The clip with other poses: no longer what stands in its file, nor what its thinned keys show."""
        return replace(self, **{"poses": poses, "origin": None, "kept": None, **changes})

    @property
    def skeleton(self) -> Skeleton:
        """The bones that it moves."""
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
        moved = self.poses.translation_tracks
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
        """World positions in metres as a pandas table: one row per frame, columns (bone, axis)."""
        import pandas

        positions = self.world().positions
        columns = pandas.MultiIndex.from_product([self.skeleton.names, ["x", "y", "z"]], names=["bone", "axis"])
        seconds = pandas.Index(np.arange(self.frames) / float(self.rate), name="seconds")
        return pandas.DataFrame(positions.reshape(self.frames, -1), index=seconds, columns=columns)

    @property
    def in_short(self) -> str:
        """Its length and size in a few words."""
        rate = text_from_rate(self.rate)
        return f"{self.frames} frames at {rate}, {self.duration_s:.2f} s, {len(self.skeleton)} bones"

    def __repr__(self) -> str:
        return f"<Clip {self.name!r}: {self.in_short}>"

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
