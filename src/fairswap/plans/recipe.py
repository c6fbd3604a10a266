"""A plan as it stands in its file: what, onto whom, for where, how, and what counts as failure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from string import Formatter
from typing import Annotated, Any, Literal

import msgspec

from fairswap.errors import InputError
from fairswap.formats.own import struct_from_file, struct_from_text

KIND = "plan/1"
# What one that is in no file is called in errors.
_TOLD = "the plan"
# What the template of a result's name may hold.
NAME_FIELDS = ("clip", "n", "file", "figure", "platform")
_Positive = Annotated[float, msgspec.Meta(gt=0.0, le=1000.0)]
_Share = Annotated[float, msgspec.Meta(ge=0.0, le=1.0)]
_Score = Annotated[float, msgspec.Meta(ge=0.0, le=100.0)]


class _Words(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, rename="kebab"):
    """Fields are called as the options of the command line: ``scale-travel``. None is: as without the option."""

    def given(self) -> dict[str, Any]:
        """What is said, by the options' names."""
        names = zip(self.__struct_encode_fields__, self.__struct_fields__, strict=True)
        return {said: value for said, name in names if (value := getattr(self, name)) not in (None, ())}

    def over(self, other: Any) -> Any:
        """This laid over another of the kind: what it says counts, else what that says."""
        said = {name: value for name, value in msgspec.structs.asdict(self).items() if value not in (None, ())}
        return msgspec.structs.replace(other, **said)


class ConvertWords(_Words, frozen=True):
    """How motions are carried over: the options of ``convert``."""

    travel: Literal["hips", "root", "none"] | None = None
    scale_travel: Annotated[float, msgspec.Meta(ge=0.0, le=1e4)] | None = None
    root_turns: bool | None = None
    feet: Literal["planted", "free"] | None = None
    hands: Literal["meet", "free"] | None = None
    reach: _Share | None = None
    object: str | None = None
    clear: bool | None = None
    sway: tuple[str, ...] = ()
    layer: tuple[str, ...] = ()
    face: Literal["all", "only", "none"] | None = None
    source_face: str | None = None
    target_face: str | None = None
    face_from: str | None = None
    strict: bool | None = None
    lead_in: Literal["keep", "drop"] | None = None
    source_bones: str | None = None
    source_reference: str | None = None
    source_figure: str | None = None
    unit: Literal["m", "dm", "cm", "mm", "in", "ft", "hm"] | None = None
    up: Literal["+X", "-X", "+Y", "-Y", "+Z", "-Z"] | None = None
    target_bones: str | None = None
    target_reference: str | None = None
    hands_reference: str | None = None
    figure: str | None = None
    place: Literal["keep", "floor", "origin"] | None = None
    without: tuple[str, ...] = ()
    keep_clips: bool | None = None
    motion_only: bool | None = None
    meta: str | None = None
    springs: bool | None = None


class ClipWords(_Words, frozen=True):
    """What is done with each clip before it is carried over, in this order; ``thin`` (millimetres) is done after."""

    clean: bool | None = None
    trim: bool | None = None
    speed: _Positive | None = None
    reverse: bool | None = None
    mirror: bool | None = None
    loop: bool | None = None
    rate: _Positive | str | None = None
    thin: _Positive | None = None


class PoseWords(_Words, frozen=True):
    """What is done with each figure before anything is carried over: the rest pose that it is set to."""

    to: str | None = None


class ExceptionWords(_Words, frozen=True):
    """What is otherwise for some clips, files, figures or platforms: those that fit a pattern of each list given."""

    clips: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    figures: tuple[str, ...] = ()
    platforms: tuple[str, ...] = ()
    skip: bool = False
    convert: ConvertWords = ConvertWords()
    clip: ClipWords = ClipWords()


class ResultWords(_Words, frozen=True):
    """What is written: how results are called, in what format, and what is drawn of each."""

    name: str = ""
    format: Literal[
        ".glb", ".gltf", ".vrm", ".vrma", ".bvh", ".csv", ".dae", ".zae", ".usda", ".usdc", ".usd", ".usdz", ".x3d",
    ] = ".glb"  # fmt: skip
    pictures: bool = False
    pages: bool = False
    thumbnails: bool = True


class FailureWords(_Words, frozen=True):
    """What counts as failure: a score below, a result that its platform refuses, findings of these codes."""

    below: _Score = 75.0
    not_fitting: bool = True
    findings: tuple[str, ...] = ()


class PlanWords(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The whole file."""

    fairswap: str
    sources: tuple[str, ...]
    figures: tuple[str, ...]
    platforms: tuple[str, ...] = ()
    clips: tuple[str, ...] = ()
    convert: ConvertWords = ConvertWords()
    clip: ClipWords = ClipWords()
    pose: PoseWords = PoseWords()
    results: ResultWords = ResultWords()
    failure: FailureWords = FailureWords()
    exceptions: tuple[ExceptionWords, ...] = msgspec.field(default=(), name="except")


@dataclass(frozen=True)
class Plan:
    """A plan that was read; names of files in it are looked up from ``folder``.

    >>> import fairswap
    >>> text = 'fairswap = "plan/1"\\nsources = ["takes"]\\nfigures = ["pip.glb"]\\n[convert]\\nfeet = "free"'
    >>> plan = fairswap.Plan.from_text(text, ".")
    >>> plan.words.convert.feet, plan.name_template
    ('free', '{figure}/{clip}')
    """

    words: PlanWords
    folder: Path
    file: str

    @classmethod
    def load(cls, path: str | Path) -> Plan:
        """Read a plan.

        >>> Plan.load("nobody.toml")
        Traceback (most recent call last):
        ...
        fairswap.errors.InputError: nobody.toml: there is no such file. Check the name and the folder.

        Raises
        ------
        InputError
            With the field that is wrong, or that contradicts another.
        """
        words, _ = struct_from_file(path, KIND, "a plan", PlanWords)
        return _checked(cls(words, Path(path).absolute().parent, str(path)))

    @classmethod
    def from_text(cls, text: str, folder: str | Path) -> Plan:
        """The plan that a text is; errors as of :meth:`load`."""
        words, _ = struct_from_text(text, _TOLD, KIND, "a plan", PlanWords)
        return _checked(cls(words, Path(folder).absolute(), _TOLD))

    @property
    def from_file(self) -> bool:
        """Whether it was read from a file, and not told."""
        return self.file != _TOLD

    @property
    def name_template(self) -> str:
        """How results are called, without their suffix: folders for platform and figure, where there are several."""
        if self.words.results.name:
            return self.words.results.name
        return "{platform}/{figure}/{clip}" if self.words.platforms else "{figure}/{clip}"


def _checked(plan: Plan) -> Plan:
    words = plan.words

    def refuse(problem: str, place: str, remedy: str) -> None:
        raise InputError(problem, file=plan.file, place=place, remedy=remedy)

    for name in ("sources", "figures"):
        if not getattr(words, name):
            refuse("nothing is named", name, "Name a file, a folder or a pattern")
    template = plan.name_template
    try:
        fields = [field for _, field, _, _ in Formatter().parse(template) if field is not None]
    except ValueError:
        fields = ["{"]
    unknown = [field for field in fields if field not in NAME_FIELDS]
    if unknown:
        refuse(f"the name holds {{{unknown[0][:40]}}}", "results.name", f"There are {_listed(NAME_FIELDS)}")
    parts = template.replace("\\", "/").split("/")
    if parts[0].strip().casefold() == "report":
        refuse("the folder 'report' is where the report is", "results.name", "Call it otherwise")
    if ".." in parts or template.startswith(("/", "\\")) or ":" in template or not all(part.strip() for part in parts):
        refuse("the name leads out of the folder of results", "results.name", "Begin it with a name, without ..")
    if words.platforms and words.results.format in (".bvh", ".csv"):
        refuse(
            f"{words.results.format} holds no figure, and platforms are named", "results.format", "Take .glb, or none"
        )
    for number, row in enumerate(words.exceptions):
        place = f"except[{number}]"
        if not (row.clips or row.files or row.figures or row.platforms):
            refuse("it is for nothing", place, "Say for which clips, files, figures or platforms")
        if row.skip and (row.convert.given() or row.clip.given()):
            refuse("it skips them and says how they are carried over", place, "Leave one of the two out")
        if row.platforms and not words.platforms:
            refuse("it is for platforms, and none is named", place, "Name platforms, or leave that out")
    for place, convert in (("convert", words.convert), *_converts(words)):
        if convert.root_turns and convert.travel not in (None, "root"):
            refuse(f"the root turns while travel is {convert.travel!r}", place, 'Say travel = "root"')
        if convert.motion_only and words.platforms:
            refuse("motion-only goes without platforms", place, "Leave one of the two out")
    steps = [("clip", words.clip), *((f"except[{n}].clip", row.clip) for n, row in enumerate(words.exceptions))]
    for place, clip in steps:
        if clip.thin is not None and words.platforms:
            refuse("a platform says itself how keys are thinned", place, "Leave thin out, or the platforms")
    return plan


def _converts(words: PlanWords) -> list[tuple[str, ConvertWords]]:
    return [(f"except[{number}].convert", row.convert) for number, row in enumerate(words.exceptions)]


def _listed(names: tuple[str, ...]) -> str:
    return ", ".join(f"{{{name}}}" for name in names)


def words_of(table: Mapping[str, Any]) -> ConvertWords:
    """Options of ``convert`` by their names, as a plan holds them."""
    return msgspec.convert(dict(table), ConvertWords)
