"""What can go wrong, and what is worth telling.

An error stops the work; a :class:`Finding` goes into the report. Both carry a code, where it is, what is wrong, and
facts. What to do about it is either the same for everybody, and stands with them; or it depends on how the library is
used, and is worded by that interface from the code and the facts: for Python here, for the command line in ``cli/``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

Severity = Literal["note", "warning", "problem"]

# What to do, in Python; {names} are facts.
REMEDIES = {
    "bone-unsure": "Say which it is with say={{role: bone}} if it is wrong",
    "bones-guessed": "Look at them with bones.show, correct them in a profile (bones.draft)",
    "bones-unknown": "Draft a profile with bones.draft, correct it, and give it as bones",
    "no-person": "Motion of people is carried over. To try it all the same, draft a profile with bones.draft and "
    "give it as bones",
    "bones-unsure": "Draft a profile with bones.draft, correct it, and give it as bones",
    "clutter": "fit(document, PLATFORM) writes the figure alone",
    "correction-large": "See whether it is the right bone (bones.show), and look at it (pose.measure)",
    "expressions-held": "Draft from it: face.draft(…, clip=NAME)",
    "clothes-cut": "dress(figure) pushes it out; hide=True takes away the skin below what is left",
    "does-not-fit": "fairswap.fit(document, {platform!r}) mends it",
    "does-not-loop": "clips.loop closes it",
    "exists": "Give force=True to replace it, or another name",
    "face-none": 'Take a figure with a face; if none is wanted, say so with FaceOptions("none")',
    "face-lost": "face.match shows what each shape becomes",
    "face-bones-unread": "Give a chart in which these poses have a meaning: face.draft(…, clip=NAME)",
    "face-bones-left-out": "Give their places by hand, as landmarks",
    "front-unsure": "If that is its back, give forward",
    "joints-stretched": "Look at it with picture.sheet; mend the clip where it was made",
    "limbs-missing": "Give the place of its end as a landmark; or part what touches (arms from the body)",
    "limbs-kept-apart": "MotionOptions(clear=False) leaves them as they were carried over",
    "lead-in": 'Take it off with clips.trim, or SourceOptions(lead_in="drop")',
    "gaps-filled": "Look at them with picture.curves",
    "garment-unknown": "Give the body they were made for as made_for",
    "height-wrong": "inspect shows its unit; load it with another unit if that is wrong",
    "moves-other-bones": "Carry it over first, with fairswap.convert",
    "no-face-moves": "face.draft shows what it has",
    "no-figure": "If it holds a body, rig it",
    "no-cycle": "Cut a cycle out by hand with clips.cut",
    "one-clip-only": "Save one clip, or each into a file of its own",
    "places-unsure": "Look at them with picture.rigging; give them as landmarks",
    "profile-incomplete": "Correct it (bones.check shows how), or leave it out to have bones found",
    "several-people": "Choose: load(…, figure=NAME)",
    "several-figures": "load(…, figure=NAME) takes another",
    "shape-contradicts": "Look at it with picture.face, or say what it does",
    "sides-swapped": "Exchange the sides in its bone profile (bones.draft), or mirror the file back",
    "levels-of-detail": "Leave them out (leave_out), or export one level only",
    "skin-apart": "Hang it on the body's bones before exporting, or leave it out; dress puts on clothes from a file of "
    "their own",
    "skin-left-behind": "Bind that skin to the hips, or leave the travel on the hips",
    "skin-torn": "fairswap.view shows it; weigh these vertices anew before exporting",
    "skin-off-bones": "fairswap.view shows it; bind the mesh to its skeleton anew before exporting",
    "space-corrected": "Load it with another unit or up if this is wrong",
    "space-found": "Load it with another unit or up if this is wrong",
    "space-guessed": "Load it with another unit or up if this is wrong",
    "no-usd": 'Install it: pip install "fairswap[usd]"',
    "no-clothes": "Give a file with clothes in it, or say which of its meshes they are with take",
    "nothing-to-wear": "Give garments",
    "trunk-bent": "If it is not built so, give a file or a pose of it that stands straight, as reference",
    "vrm-bones": 'Fit it to the standard: fairswap.fit(document, "vrm-1")',
    "vrm-meta": "Say it in a file (docs/formats.md has one to copy), and give it as meta",
    "wants-a-folder": "fairswap.fit(document, {platform!r}).save(FOLDER) mends it",
    "table-again": "Write the table again with fairswap.save",
}


class FairSwapError(Exception):
    """The root of our errors: which file, where in it, what is wrong, what to do.

    >>> import fairswap
    >>> try:
    ...     fairswap.load("nobody.glb")
    ... except fairswap.FairSwapError as error:
    ...     print(type(error).__name__, error.file)
    InputError nobody.glb

    Attributes
    ----------
    problem : str
        What is wrong, in words an artist understands.
    code : str
        A short name of the kind of problem, where an interface words what to do; else empty.
    file, place : str or None
        Which file, and where in it.
    facts : mapping
        What the wording may name.
    """

    exit_status = 4

    def __init__(
        self,
        problem: str,
        *,
        file: object = None,
        place: str | None = None,
        remedy: str | None = None,
        code: str = "",
        **facts: Any,
    ) -> None:
        super().__init__(problem)
        self.problem = problem
        self.file = None if file is None else str(file)
        self.place = place
        self.remedy = remedy
        self.code = code
        self.facts = facts

    def __str__(self) -> str:
        return self.worded(REMEDIES)

    def worded(self, remedies: Mapping[str, str]) -> str:
        """The whole message, what to do worded by an interface."""
        where = ", ".join(shortened(part, 110) for part in (self.file, self.place) if part)
        remedy = shortened(remedy_for(self.code, self.remedy, self.facts, remedies) or "", 160)
        problem = shortened(self.problem, max(390 - len(where) - len(remedy), 60))
        said = _sentence(f"{where}: {problem}" if where else problem)
        return f"{said} {_sentence(remedy)}" if remedy else said

    def in_file(self, file: object) -> FairSwapError:
        """Name the file, when the place that raised the error could not know it."""
        if self.file is None:
            self.file = str(file)
        return self


class UsageError(FairSwapError):
    """The call itself is wrong: an option that does not fit, a name that is not there.

    >>> import fairswap
    >>> try:
    ...     fairswap.demo_motion("backflip")
    ... except fairswap.UsageError as error:
    ...     print(error.remedy)
    There are walk, turn-and-bow, lamp, clap, leap, idle, spoken line
    """

    exit_status = 2


class InputError(FairSwapError):
    """A file cannot be read: it is not what it says, or it is damaged.

    >>> import fairswap
    >>> try:
    ...     fairswap.load(b"not a figure", format=".glb")
    ... except fairswap.InputError as error:
    ...     print(error.problem)
    it is not a glTF file: the first four bytes are not 'glTF'
    """

    exit_status = 3


class ImpossibleError(FairSwapError):
    """The files are readable, but what was asked cannot be done with them.

    >>> import fairswap
    >>> try:
    ...     fairswap.convert(fairswap.demo_file("juniper.glb"), fairswap.demo_file("pip.glb"))
    ... except fairswap.ImpossibleError as error:
    ...     print(error.problem)
    there is no clip in it
    """

    exit_status = 4


class OutputError(FairSwapError):
    """A result cannot be written where it should go. Nothing was left half written.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk")
    >>> try:
    ...     fairswap.save(fairswap.demo_file("pip.glb"), walk.figure, walk.clips)
    ... except fairswap.OutputError as error:
    ...     print(error.problem)
    it is there already
    """

    exit_status = 4


def shortened(text: str, most: int) -> str:
    """A text of at most ``most`` letters, its middle left out where it is longer.

    >>> shortened("a very long name of a bone", 15)
    'a very … a bone'
    """
    if len(text) <= most:
        return text
    head = (most - 1) // 2
    return f"{text[:head]}…{text[len(text) - (most - 1 - head) :]}"


@dataclass(frozen=True)
class Finding:
    """One thing worth telling the user about a file or a result.

    ``place`` is the file, figure or clip it is about; ``fixed_remedy`` is what to do, where that is the same in any
    interface; ``facts`` are what the wording of an interface may name.

    >>> import fairswap
    >>> listing = fairswap.inspect(fairswap.demo_file("pip.glb"))
    >>> listing.findings
    ()
    """

    code: str
    severity: Severity
    place: str
    message: str
    fixed_remedy: str = ""
    facts: Mapping[str, Any] = field(default_factory=dict, compare=False)

    @property
    def remedy(self) -> str:
        """What to do, in Python; nothing if nothing needs to be done."""
        return self.worded(REMEDIES)

    def worded(self, remedies: Mapping[str, str]) -> str:
        """What to do, worded by an interface."""
        return remedy_for(self.code, self.fixed_remedy, self.facts, remedies) or ""


def remedy_for(code: str, fixed: str | None, facts: Mapping[str, Any], remedies: Mapping[str, str]) -> str | None:
    """What to do: as it stands, else as an interface words it for the code."""
    if fixed or code not in remedies:
        return fixed
    return remedies[code].format(**facts)


def _sentence(text: str) -> str:
    return text if text.endswith((".", "!", "?")) else text + "."
