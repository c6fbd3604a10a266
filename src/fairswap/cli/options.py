"""Options that several commands share, each said once; groups of them reach a command as one object."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from fairswap.cli.output import Output, note
from fairswap.formats.limits import LARGEST_NUMBER

if TYPE_CHECKING:
    from fairswap.model.document import Document

Function = TypeVar("Function", bound=Callable[..., Any])


class InputFile(click.Path):
    """A file that is read; noted, so that nothing of this run is written over it."""

    def __init__(self) -> None:
        super().__init__(path_type=Path)

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> Any:
        path = Path(str(super().convert(value, parameter, context)))
        note("inputs", path)
        return path


class Number(click.types.FloatParamType):
    """A number: never infinite, never none."""

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> float:
        number = float(super().convert(value, parameter, context))
        if not abs(number) <= LARGEST_NUMBER:
            self.fail(f"{value} is beyond all measure.", parameter, context)
        return number


class _SaidInWords:
    min: Any
    max: Any

    def _describe_range(self) -> str:  # click's own: "0.25<=x<=4.0"
        if self.max is None:
            return f"{self.min or 0:g} or more"
        return f"{self.min or 0:g} to {self.max:g}"


class NumberBetween(_SaidInWords, Number, click.FloatRange):
    """A number from one to another, said in the help."""


class WholeBetween(_SaidInWords, click.IntRange):
    """A whole number from one to another, or up, said in the help."""


def name_or_file(value: str) -> str:
    """Something built in, or a file: noted as an input if it is one."""
    if Path(value).is_file():
        note("inputs", value)
    return value


INPUT = InputFile()
OUTPUT = click.Path(path_type=Path)

out = click.option("-o", "--out", required=True, type=OUTPUT, metavar="OUT", help="Write this file.")
bones = click.option("--bones", type=name_or_file, metavar="P", help="Bone profile of the figure: a file or a name.")
picture = click.option("--picture", type=OUTPUT, metavar="FILE.png", help="Draw a sheet of it.")


class Seconds(click.ParamType):  # type: ignore[type-arg]
    """Instants with commas between them, as 1.2,3.4."""

    name = "seconds"

    def convert(
        self, value: Any, parameter: click.Parameter | None, context: click.Context | None
    ) -> tuple[float, ...]:
        if isinstance(value, tuple):
            return value
        return tuple(
            NumberBetween(0.0).convert(part.strip(), parameter, context) for part in str(value).split(",") if part
        )


@dataclass(frozen=True)
class Looks:
    """What a sheet shows: instants, and what of the figures."""

    at: tuple[float, ...] = ()
    shots: tuple[str, ...] = ("full",)


def looks(function: Function) -> Function:
    """``--at`` and ``--shot`` of a sheet."""

    def made(at: tuple[float, ...], shots: tuple[str, ...]) -> Looks:
        return Looks(at, shots or ("full",))

    inner = _gathered(function, "looks", made, "at", "shots")
    shot = click.option(
        "--shot", "shots", multiple=True, type=click.Choice(["full", "face", "hands", "feet"]),
        help="What the sheet shows of the figures. Repeatable.",
    )  # fmt: skip
    at = click.option("--at", type=Seconds(), default=(), metavar="S,S", help="Moments to draw, in seconds: 1.2,3.4.")
    return at(shot(inner))


def _noted_view(_: click.Context, __: click.Parameter, value: Path | None) -> None:
    if value is not None:
        from fairswap.picture.page.assembling import drawing_package

        drawing_package()  # what is missing is told before the work
        note("view", value)


# Not handed to the command: its report is written with the page, whatever it is about.
view = click.option(
    "--view", type=OUTPUT, metavar="FILE.html", expose_value=False, callback=_noted_view,
    help="Write a page that plays it in a browser.",
)  # fmt: skip
source_bones = click.option(
    "--source-bones", type=name_or_file, metavar="P", help="Bone profile of the source: a file or a built-in name."
)
target_bones = click.option(
    "--target-bones", type=name_or_file, metavar="P", help="Bone profile of the target: a file or a built-in name."
)
source_reference = click.option(
    "--source-reference", type=name_or_file, default="auto", metavar="POSE",
    help="Reference pose of the source: auto, rest, zero, frame:N, time:S (of its clip), a saved pose, or a file.",
)  # fmt: skip
target_reference = click.option(
    "--target-reference", type=name_or_file, default="auto", metavar="POSE",
    help="Reference pose of the target, in the same words.",
)  # fmt: skip
_hands_reference = click.option(
    "--hands-reference", type=name_or_file, default="auto", metavar="POSE",
    help="Reference pose of the fingers: auto (straight), rest (as each rests), or a saved pose.",
)  # fmt: skip
place = click.option(
    "--place", type=click.Choice(["keep", "floor", "origin"]), default="keep",
    help="Where the figure stands: as it does now, on the floor, or on the floor at the origin.",
)  # fmt: skip
without = click.option(
    "--without", multiple=True, metavar="MESH",
    help="Leave a mesh out, with all beside the figure: a level of detail, a prop. * is anything. Repeatable.",
)  # fmt: skip
_strict = click.option("--strict", is_flag=True, help="Stop if a bone is only a guess (less than 0.9 sure).")
show_all = click.option("--all", "show_all", is_flag=True, help="List everything, also what is as it should be.")
_as_json = click.option("--json", "as_json", is_flag=True, help="Print the report as JSON.")
_quiet = click.option("--quiet", is_flag=True, help="Print nothing but errors.")
_force = click.option("--force", is_flag=True, help="Overwrite existing files (never an input).")
_unit = click.option(
    "--unit", type=click.Choice(["m", "dm", "cm", "mm", "in", "ft", "hm"]),
    help="Unit of the (source) file, if it was found wrong.",
)  # fmt: skip
_up = click.option(
    "--up", type=click.Choice(["+X", "-X", "+Y", "-Y", "+Z", "-Z"]),
    help="Up axis of the (source) file, if it was found wrong.",
)  # fmt: skip


def which_figure(
    option: str = "--figure", name: str = "which_figure", of: str = "file", **more: Any
) -> Callable[[Function], Function]:
    """The option that picks a figure of a file."""
    text = f"Which figure of the {of}, if it holds several."
    return click.option(option, name, metavar="NAME", help=text, **more)


def _remembered(context: click.Context, parameter: click.Parameter, name: str | None) -> None:
    context.meta[f"fairswap.{parameter.name}"] = name


figure = which_figure(name="figure_name", expose_value=False, callback=_remembered)
source_figure = which_figure(
    "--source-figure", "source_figure_name", "first file", expose_value=False, callback=_remembered
)


def loaded(path: Path, name: str = "figure_name") -> Document:
    """Read a file of a command with the option ``figure``: the figure that was chosen is its first."""
    from fairswap.formats.files import load

    return load(path, figure=click.get_current_context().meta.get(f"fairswap.{name}"))


target_figure = which_figure(name="target_figure", of="target's file")
_MOTION = (
    click.option("--travel", type=click.Choice(["hips", "root", "none"]), default="hips",
                 help="Where ground travel is kept: hips (default), a root bone (added if needed), or none."),
    click.option("--scale-travel", type=NumberBetween(0.0, 1e4), metavar="FACTOR",
                 help="Scale ground travel by this instead of by leg length."),
    click.option("--root-turns", is_flag=True, help="With --travel root: the root turns with the hips."),
    click.option("--feet", type=click.Choice(["planted", "free"]), default="planted",
                 help="Plant standing feet (default), or leave them as carried over."),
    click.option("--hands", type=click.Choice(["meet", "free"]), default="meet",
                 help="Let hands touch what the source's touch (default), or leave them."),
    click.option("--reach", type=NumberBetween(0.0, 1.0), default=1.0, metavar="WEIGHT",
                 help="How far hands go to touch: 0 keeps the pose, 1 the touch."),
    click.option("--object", "object_", metavar="BONE", help="The bone of the source that marks a prop hands touch."),
    click.option("--clear/--no-clear", default=None,
                 help="Keep arms and legs out of the body and each other, or leave them; by default they are kept out "
                      "where the result looks more like its source for it."),
    click.option("--sway", "sway", multiple=True, metavar="NAME",
                 help="Let extra bones without motion swing: skirt*, hair*, or * for all. Repeatable."),
    click.option("--layer", "layers", multiple=True, type=INPUT, metavar="FILE.toml",
                 help="Corrections to add on top. Repeatable."),
)  # fmt: skip
_FACE = (
    click.option("--face", "which", type=click.Choice(["all", "only", "none"]), default="all",
                 help="Carry over the face with the body (default), the face only, or no face."),
    click.option("--source-face", type=INPUT, metavar="F.toml", help="Face chart of the source."),
    click.option("--target-face", type=INPUT, metavar="F.toml", help="Face chart of FIGURE."),
    click.option("--face-from", "taken_from", type=INPUT, metavar="FILE",
                 help="Take the face from the clip of this file (of the same name, or its longest) instead."),
)  # fmt: skip


_READING = "unit", "up", "which_figure"


@dataclass(frozen=True)
class Reading:
    """How a file is read: its unit and up axis, where found wrongly; and which figure of it counts."""

    unit: str | None = None
    up: str | None = None
    which_figure: str | None = None

    def load(self, path: Path) -> Document:
        """Read a file."""
        from fairswap.formats.files import load

        return load(path, unit=self.unit, up=self.up, figure=self.which_figure)


def reporting(function: Function) -> Function:
    """A command that reports: it is given ``output``."""
    return _as_json(_quiet(_gathered(function, "output", Output, "as_json", "quiet")))


def writing(function: Function) -> Function:
    """A command that reports and writes files: it is given ``output``."""
    return _as_json(_quiet(_force(_gathered(function, "output", Output, "as_json", "quiet", "force"))))


def reading(function: Function) -> Function:
    """A command that reads a file whose space may be found wrongly, or with several figures: given ``reading``."""
    return _unit(_up(which_figure()(_gathered(function, "reading", Reading, *_READING))))


def source_reading(function: Function) -> Function:
    """As :func:`reading`, of the source of a command that has a target, too."""
    return _unit(
        _up(which_figure("--source-figure", of="source's file")(_gathered(function, "reading", Reading, *_READING)))
    )


def source_options(function: Function) -> Function:
    """A command that wants to know whose motion: it is given ``source``."""

    def made(source_bones: Any, source_reference: Any, names: Any, strict: bool, lead_in: str) -> Any:
        from fairswap.jobs.options import SourceOptions

        return SourceOptions(source_bones, source_reference, names, strict, lead_in)

    inner = _gathered(function, "source", made, "source_bones", "source_reference", "names", "strict", "lead_in")
    inner = click.option(
        "--lead-in", type=click.Choice(["keep", "drop"]), default="keep",
        help="A rest pose held before the motion: keep it (default) or drop it. It is never judged.",
    )(inner)  # fmt: skip
    clips = click.option("--clip", "names", multiple=True, metavar="NAME", help="Only this clip. Repeatable.")
    return clips(source_bones(source_reference(_strict(inner))))


def avatar_options(function: Function) -> Function:
    """A command that may make an avatar: it is given ``meta`` and ``springs``."""
    meta = click.option(
        "--meta", type=INPUT, metavar="FILE.toml",
        help="Author and terms of use, for avatars (.vrm).",
    )  # fmt: skip
    springs = click.option("--springs", is_flag=True, help="Let its extra bones (skirts, tails, hair) swing (.vrm).")
    return meta(springs(function))


def target_options(function: Function) -> Function:
    """A command that wants to know on whom: it is given ``target``."""

    def made(
        target_bones: Any, target_reference: Any, hands_reference: Any, keep_clips: bool, motion_only: bool,
        meta: Path | None, springs: bool,
    ) -> Any:  # fmt: skip
        from fairswap.jobs.options import TargetOptions

        return TargetOptions(target_bones, target_reference, hands_reference, keep_clips, motion_only, meta, springs)

    names = "target_bones", "target_reference", "hands_reference", "keep_clips", "motion_only", "meta", "springs"
    inner = _gathered(function, "target", made, *names)
    keep = click.option("--keep-clips", is_flag=True, help="Keep the figure's own clips beside the new ones.")
    alone = click.option("--motion-only", is_flag=True, help="Write bones and clips without meshes.")
    return target_bones(target_reference(_hands_reference(keep(alone(avatar_options(inner))))))


def motion_options(function: Function) -> Function:
    """A command that retargets motions: it is given ``motion``."""

    def made(object_: str | None, **more: Any) -> Any:
        from fairswap.retarget.options import MotionOptions

        return MotionOptions(object=object_, **more)

    names = "travel", "scale_travel", "root_turns", "feet", "hands", "reach", "object_", "clear", "sway", "layers"
    inner = _gathered(function, "motion", made, *names)
    for option in reversed(_MOTION):
        inner = option(inner)
    return inner


def face_options(function: Function) -> Function:
    """A command that transfers faces: it is given ``face``."""

    def made(which: str, source_face: Path | None, target_face: Path | None, taken_from: Path | None) -> Any:
        from fairswap.jobs.options import FaceOptions

        return FaceOptions(which, source_face, target_face, taken_from)

    inner = _gathered(function, "face", made, "which", "source_face", "target_face", "taken_from")
    for option in reversed(_FACE):
        inner = option(inner)
    return inner


save_as = click.option(
    "--save-as", "family", metavar="NAME", help="Keep it under a family name: used by itself next time."
)


def kept_in(kind: str, out: Path | None, family: str | None) -> list[Path]:
    """Where a result goes: to ``out``, and to what is kept of a kind under a family's name.

    Raises
    ------
    click.BadParameter
    """
    from fairswap.formats.saved import user_folder

    if family is not None and Path(family).name != family:
        raise click.BadParameter("a family's name is one word, not a path", param_hint="--save-as")
    return [path for path in (out, user_folder(kind) / f"{family}.toml" if family else None) if path is not None]


def pairs(texts: tuple[str, ...], option: str, form: str) -> list[tuple[str, str]]:
    """Texts of the form ``A=B`` as pairs.

    Raises
    ------
    click.BadParameter
    """
    found = []
    for text in texts:
        first, equals, second = text.partition("=")
        if not (first and equals and second):
            raise click.BadParameter(f"{text!r} is not {form}", param_hint=option)
        found.append((first, second))
    return found


def _gathered(function: Function, name: str, made: Callable[..., Any], *parameters: str) -> Function:
    """The function with some of its options gathered into one object."""

    @wraps(function)
    def gathering(*arguments: Any, **options: Any) -> Any:
        given = {parameter: options.pop(parameter) for parameter in parameters}
        return function(*arguments, **{name: made(**given)}, **options)

    return gathering  # type: ignore[return-value]
