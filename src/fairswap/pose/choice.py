"""Which pose is meant: made from an artist's words (``frame:12``, ``a:60``, a file) in one place.

The rest of this room works with what is chosen here, and opens no file.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from fairswap.errors import UsageError
from fairswap.formats.files import load
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.pose.saved import SavedPose

Kind = Literal["auto", "rest", "zero", "t", "a", "frame", "time", "saved", "figure"]
_NUMBERED = re.compile(r"(frame|time|a):(-?\d+(?:\.\d+)?)s?")
_USUAL_A_DEGREES = 45.0


@dataclass(frozen=True, eq=False)
class PoseChoice:
    """A pose by what it is taken from.

    >>> import fairswap
    >>> choice = fairswap.pose.named("frame:12")
    >>> choice.kind, choice.value
    ('frame', 12.0)

    Attributes
    ----------
    kind : str
        ``auto`` (what suits best), ``rest``, ``zero`` (all rotations zero), ``t``, ``a``, ``frame`` and ``time`` (of
        a clip of the figure), ``saved`` (a pose kept by role), ``figure`` (how another figure rests).
    value : float
        The number of the frame, the seconds, or of an A how many degrees the arms are below level.
    saved, figure, clip : optional
        The saved pose; the other figure, and a clip of it that helps to find its bones; of a frame the clip it was
        found in, where nobody asked for it.
    text : str
        What the artist wrote, for reports.
    """

    kind: Kind = "auto"
    value: float = 0.0
    saved: SavedPose | None = None
    figure: Figure | None = None
    clip: Clip | None = None
    text: str = "auto"

    def __repr__(self) -> str:
        return f"<PoseChoice {self.text!r}>"

    def one_of(self, *kinds: str, what: str) -> PoseChoice:
        """Itself, if it is of one of these kinds.

        Raises
        ------
        UsageError
            If not; ``what`` it was wanted for is said.
        """
        if self.kind in kinds:
            return self
        said = {"a": "a:DEGREES", "frame": "frame:N", "time": "time:S", "saved": "a saved pose (.toml)",
                "figure": "a file"}  # fmt: skip
        known = ", ".join(said.get(kind, kind) for kind in kinds)
        raise UsageError(f"{self.text!r} is not a {what}", remedy=f"Give one of: {known}")


AUTO = PoseChoice()
REST = PoseChoice("rest", text="rest")


def pose_named(choice: str | Path | PoseChoice) -> PoseChoice:
    """The pose that an artist's words mean.

    ``auto``, ``rest``, ``zero``, ``t``, ``a`` or ``a:DEGREES``, ``frame:N``, ``time:S``, a saved pose (``.toml``), or
    a figure or motion file, whose rest pose is meant.

    >>> pose_named("a:60").value, pose_named("frame:12").kind, pose_named("T-pose").kind
    (60.0, 'frame', 't')

    Raises
    ------
    UsageError
        If they mean none.
    InputError
        If the file cannot be read.
    """
    if isinstance(choice, PoseChoice):
        return choice
    text = str(choice)
    word = text.casefold().removesuffix("pose").removesuffix("-")  # T, A-pose
    if word in ("auto", "rest", "zero", "t"):
        return PoseChoice(word, text=word)  # type: ignore[arg-type]
    if word == "a":
        return PoseChoice("a", _USUAL_A_DEGREES, text=word)
    numbered = _NUMBERED.fullmatch(word)
    if numbered and (numbered[1] == "a" or not numbered[2].startswith("-")):
        return PoseChoice(numbered[1], float(numbered[2]), text=word)  # type: ignore[arg-type]
    suffix = Path(text).suffix.lower()
    if suffix == ".toml":
        return PoseChoice("saved", saved=SavedPose.load(text), text=text)
    if suffix:
        document = load(text)
        clip = next(iter(document.clips_of(document.figure)), None)
        return PoseChoice("figure", figure=document.figure, clip=clip, text=text)
    raise UsageError(
        f"{text!r} is not a pose",
        remedy="Give auto, rest, zero, t, a, a:DEGREES, frame:N, time:S, a saved pose (.toml), or a file",
    )
