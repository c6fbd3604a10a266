"""What a conversion is asked for, said once: of the source, of the target, of the face. Checked when made."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.errors import UsageError
from fairswap.pose.choice import AUTO, PoseChoice, pose_named

if TYPE_CHECKING:
    from fairswap.face.chart import FaceChart
    from fairswap.model.document import Document

Options = TypeVar("Options")

LEAD_INS = ("keep", "drop")


@dataclass(frozen=True)
class SourceOptions:
    """Whose motion.

    >>> SourceOptions(bones="saltglass", reference="frame:0").reference.value
    0.0

    Attributes
    ----------
    bones : BoneProfile, name or file, optional
        Which bone is which; without, it is found.
    reference : PoseChoice or str
        In which pose the source counts as standing in the common T; frames and times are of each document's first clip.
    clips : sequence of str
        Only clips of these names; without, all.
    strict : bool
        Refuse bones that are guesses, of source and target.
    lead_in : str
        A rest pose that is held before the motion: ``keep`` it, or ``drop`` it. Either way it counts neither for
        contacts nor for the verdict.

    Raises
    ------
    UsageError
        For a value that is none of these.
    """

    bones: BoneProfile | str | Path | None = None
    reference: PoseChoice | str = AUTO
    clips: tuple[str, ...] = ()
    strict: bool = False
    lead_in: str = "keep"

    def __post_init__(self) -> None:
        if self.lead_in not in LEAD_INS:
            raise UsageError(f"lead_in is {self.lead_in!r}", remedy=f"Give one of {', '.join(LEAD_INS)}")
        _resolve(self, "bones", profile_named)
        _resolve(self, "reference", pose_named)
        object.__setattr__(self, "clips", (self.clips,) if isinstance(self.clips, str) else tuple(self.clips))


@dataclass(frozen=True)
class TargetOptions:
    """On whom.

    >>> import fairswap
    >>> fairswap.TargetOptions(bones="fernway", reference="rest").reference
    <PoseChoice 'rest'>

    Attributes
    ----------
    bones, reference
        As of :class:`SourceOptions`, for the target and its own first clip.
    hands : PoseChoice or str
        What counts as alike for fingers: ``auto`` (straight on both), ``rest`` (as each rests), or a saved pose.
    keep_clips : bool
        Whether the figure's own clips stay beside the new ones.
    motion_only : bool
        Whether bones and clips are written alone, without meshes.
    meta : path, optional
        A file that says who made the figure and what may be done with it, for avatars (``fairswap = "meta/1"``).
    springs : bool
        Whether extra bones (skirts, tails, hair) swing, in formats that know such.
    """

    bones: BoneProfile | str | Path | None = None
    reference: PoseChoice | str = AUTO
    hands: PoseChoice | str = AUTO
    keep_clips: bool = False
    motion_only: bool = False
    meta: str | Path | None = None
    springs: bool = False

    def __post_init__(self) -> None:
        _resolve(self, "bones", profile_named)
        _resolve(self, "reference", pose_named)
        _resolve(self, "hands", pose_named)

    @property
    def profile(self) -> BoneProfile | None:
        """The bone profile that ``bones`` means."""
        return None if self.bones is None else profile_named(self.bones)


@dataclass(frozen=True)
class FaceOptions:
    """Whether faces are transferred: ``all`` (with the body), ``only`` (without it) or ``none``; and their charts.

    Without a chart one is drafted. ``taken_from`` is a file, or a document, whose face is taken instead of that of the
    source: its clip of the same name, or its longest, from the start of each clip on.

    >>> import fairswap
    >>> fairswap.FaceOptions(which="none")
    FaceOptions(which='none', source_chart=None, target_chart=None, taken_from=None)
    """

    which: str = "all"
    source_chart: FaceChart | str | Path | None = None
    target_chart: FaceChart | str | Path | None = None
    taken_from: Document | str | Path | None = None
    _known: tuple[str, ...] = field(default=("all", "only", "none"), init=False, repr=False)

    def __post_init__(self) -> None:
        if self.which not in self._known:
            raise UsageError(f"face is {self.which!r}", remedy=f"Give one of {', '.join(self._known)}")
        for name in ("source_chart", "target_chart"):
            if isinstance(getattr(self, name), str | Path):
                from fairswap.face.chart import FaceChart  # most motions have no face

                _resolve(self, name, FaceChart.load)


def options_of(kind: type[Options], given: Options | None, name: str) -> Options:
    """The options that are given, or those of who gives none.

    Raises
    ------
    UsageError
        If they are of another kind.
    """
    if given is None:
        return kind()
    if not isinstance(given, kind):
        remedy = f"Give fairswap.{kind.__name__}(…)"
        raise UsageError(f"{name} wants {kind.__name__}, not a value of type {type(given).__name__}", remedy=remedy)
    return given


def _resolve(options: object, name: str, named) -> None:  # type: ignore[no-untyped-def]
    """Put what a name or file means in its place."""
    value = getattr(options, name)
    if value is not None:
        object.__setattr__(options, name, named(value))
