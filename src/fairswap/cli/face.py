"""``fairswap face draft|check|match|show|apply``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import manners

if TYPE_CHECKING:
    from fairswap.clip import Clip
    from fairswap.document import Document
    from fairswap.face.carry import CarriedFace, FaceSide

_say = click.option(
    "--say", multiple=True, metavar="SHAPE=UNIT", help="What you know of a shape; several units: SHAPE=UNIT+UNIT."
)
_bones = click.option("--bones", metavar="P", help="Bone profile of the figure: a file or a name.")


@click.group(name="face")
def command() -> None:
    """Faces: what the shapes of a head do, and expressions and speech put on other heads."""


@command.command(short_help="Find out what each shape of a head does, and write a face chart.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("-o", "--out", type=click.Path(path_type=Path), metavar="F.toml", help="Write the chart here.")
@_say
@_bones
@click.option("--clip", metavar="NAME", help="With --held: the clip in which expressions are held.")
@click.option(
    "--held", type=click.Path(path_type=Path), metavar="T.csv",
    help="A table frame,name: expressions of face bones, each held on its frame of a clip.",
)  # fmt: skip
@manners.writing
def draft(
    file: Path, out: Path | None, say: tuple[str, ...], bones: str | None, clip: str | None, held: Path | None,
    as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Find out what every morph of FILE (and its face bones) does, by name and by shape, and write a face chart."""
    from fairswap.face.draft import draft_face, draft_timeline
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically

    document = load(file)
    roles = _roles(document, bones)
    if held is not None:
        from fairswap.errors import UsageError

        if roles is None:
            raise UsageError("the bones of the figure are not known", remedy="Give --bones")
        takes = [c for c in document.clips_of(document.figure) if clip in (None, c.name)]
        if not takes:
            raise UsageError(f"no clip is called {clip!r}" if clip else "there is no clip", file=file)
        found = draft_timeline(document.figure, roles, takes[0], _held_frames(held))
    else:
        found = draft_face(document.figure, roles, document.clips_of(document.figure), _said(say))
    if out is not None:
        manners.never_an_input(out, (file,))
        comments = {name: f"{row.confidence:.2f}: {'; '.join(row.reasons)}" for name, row in found.guesses.items()}
        write_atomically(out, [found.chart.text(comments).encode()], force)
    report = {"figure": document.figure.name, **found.as_dict(), "written": [str(out)] if out else []}
    manners.emit(report, _draft_lines(report), as_json, quiet)


@command.command(short_help="Hold a face chart against a head.")
@click.argument("chart", metavar="F", type=click.Path(path_type=Path))
@click.argument("file", type=click.Path(path_type=Path))
@manners.reporting
def check(chart: Path, file: Path, as_json: bool, quiet: bool) -> None:
    """Hold the face chart F against FILE: misspelt, missing, dead, out of range, never keyed; near names are offered.

    Exit status 1 if there is a problem.
    """
    from fairswap.face.chart import FaceChart, coverage
    from fairswap.face.check import check_chart, coverage_rows
    from fairswap.files import load

    known, document = FaceChart.load(chart), load(file)
    findings = check_chart(known, document.figure, document.clips_of(document.figure))
    report: dict[str, Any] = {
        "chart": known.name, "file": str(file), "shapes": len(known.shapes), "coverage": coverage_rows(coverage(known)),
        "findings": [row.as_dict() for row in findings],
    }  # fmt: skip
    lines = [
        click.style(f"{known.name} on {file.name}: {len(known.shapes)} shapes", bold=True),
        *_cover(report["coverage"]),
    ]
    manners.emit(report, [*lines, *manners.finding_lines(findings)], as_json, quiet)
    if any(row.severity == "problem" for row in findings):
        raise click.exceptions.Exit(1)


@command.command(short_help="What each shape of one head becomes on another.")
@click.argument("a", type=click.Path(path_type=Path))
@click.argument("b", type=click.Path(path_type=Path))
@manners.reporting
def match(a: Path, b: Path, as_json: bool, quiet: bool) -> None:
    """Print what each shape of A (a chart or a file) is made of on B, and how much of it is lost."""
    from fairswap.face.check import match_charts

    rows = match_charts(_chart(a), _chart(b))
    report = {"a": str(a), "b": str(b), "shapes": rows}
    lines = manners.table(
        [
            (
                row["shape"],
                " + ".join(f"{w:g} {name}" for name, w in list(row["made_of"].items())[:4]) or "nothing",
                f"{100 * row['lost']:.0f}",
            )
            for row in rows
        ],
        (a.name, b.name, "lost %"),
    )
    manners.emit(report, lines, as_json, quiet)


@command.command(short_help="Draw every shape of a head in one sheet.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--face", "chart", type=click.Path(path_type=Path), metavar="F.toml", help="The chart; without, one is drafted."
)
@_bones
@click.option(
    "-o", "--out", type=click.Path(path_type=Path), required=True, metavar="OUT.png", help="Write this picture."
)
@manners.writing
def show(file: Path, chart: Path | None, bones: str | None, out: Path, as_json: bool, quiet: bool, force: bool) -> None:
    """Draw every shape of FILE, each with what it is taken for, and which regions of the face are covered."""
    from fairswap.face.carry import FaceSide
    from fairswap.face.chart import FaceChart, coverage
    from fairswap.face.check import coverage_rows
    from fairswap.face.draft import draft_face
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically
    from fairswap.picture.face_sheet import shapes_sheet

    document = load(file)
    roles = _roles(document, bones)
    found = draft_face(document.figure, roles, document.clips_of(document.figure))
    known = FaceChart.load(chart) if chart else found.chart
    side = FaceSide(document.figure, roles, known)
    captions = {}
    for name, shape in known.shapes.items():
        words = " + ".join([*shape.units, *(f"{part}" for part in shape.total)]).replace("_", " ")
        sure = found.guesses[name].confidence if chart is None and name in found.guesses else 1.0
        captions[name] = words + (f" ({sure:.2f})" if sure < 0.9 else "")
    manners.never_an_input(out, (file,))
    write_atomically(out, [shapes_sheet(side, found.frame, captions, f"{document.figure.name}: face")], force)
    report: dict[str, Any] = {
        "file": str(file),
        "shapes": len(known.shapes),
        "coverage": coverage_rows(coverage(known)),
        "written": [str(out)],
    }
    lines = [click.style(f"{file.name}: {len(known.shapes)} shapes", bold=True), *_cover(report["coverage"])]
    manners.emit(report, [*lines, f"  wrote    {out}"], as_json, quiet)


@command.command(short_help="Put a face clip, tracks from a table, or speech on a head.")
@click.argument("file", metavar="CLIP", type=click.Path(path_type=Path))
@click.option(
    "--onto", required=True, type=click.Path(path_type=Path), metavar="HEAD", help="The figure whose face shall move."
)
@click.option("-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT", help="Write this file.")
@click.option("--source-face", type=click.Path(path_type=Path), metavar="F.toml", help="Chart of CLIP's shapes.")
@click.option("--target-face", type=click.Path(path_type=Path), metavar="F.toml", help="Chart of HEAD.")
@click.option("--rate", type=click.IntRange(1, 240), default=60, metavar="N", help="Of speech: frames per second (60).")
@click.option(
    "--strength",
    type=click.FloatRange(0.0, 1.5),
    default=1.0,
    metavar="S",
    help="Of speech: how far the mouth goes (1).",
)
@manners.target_bones
@click.option("--picture", type=click.Path(path_type=Path), metavar="FILE.png", help="Draw moments of it.")
@manners.writing
def apply(
    file: Path, onto: Path, out: Path, source_face: Path | None, target_face: Path | None, rate: int, strength: float,
    target_bones: str | None, picture: Path | None, as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Put CLIP on the face of HEAD.

    CLIP is a glTF with a face that moves, a table of weights over time (a column time_s, a column for each shape or
    unit), or a table of speech (start,end,phone; phones in IPA or ARPAbet).
    """
    from fairswap.face.carry import FaceSide
    from fairswap.face.chart import FaceChart
    from fairswap.files import load, save

    for path in filter(None, (out, picture)):
        manners.never_an_input(path, (file, onto))
    document = load(onto)
    target = FaceSide(
        document.figure, _roles(document, target_bones), FaceChart.load(target_face) if target_face else None,
        tuple(document.clips_of(document.figure)),
    )  # fmt: skip
    done = list(_applied(file, target, source_face, rate, strength))
    written = [str(path) for path in save(out, document.figure, [row.clip for row in done], force=force)]
    if picture is not None:
        written += _moments(picture, target, done[0].clip, force)
    report = {
        "clip": str(file), "onto": str(onto),
        "clips": [
            {"name": row.clip.name, "seconds": round(row.clip.duration_s, 4), "rate": float(row.clip.rate)}
            | row.as_dict()
            for row in done
        ],
        "written": written, "findings": [f.as_dict() for row in done for f in row.findings],
    }  # fmt: skip
    manners.emit(report, _applied_lines(report), as_json, quiet)


def _applied(
    file: Path, target: FaceSide, source_face: Path | None, rate: int, strength: float
) -> Iterator[CarriedFace]:
    from fractions import Fraction

    from fairswap.errors import ImpossibleError
    from fairswap.face.carry import FaceSide, FaceSwap, perform_units, still_clip
    from fairswap.face.chart import FaceChart
    from fairswap.face.draft import chart_from_names
    from fairswap.face.speech import is_speech, read_phones, units_from_phones
    from fairswap.face.tracks import read_tracks
    from fairswap.files import load

    given = FaceChart.load(source_face) if source_face else None
    if file.suffix.lower() != ".csv":
        source = load(file)
        side = FaceSide(source.figure, _roles(source, None), given, tuple(source.clips_of(source.figure)))
        clips = [clip for clip in source.clips_of(source.figure) if side.moves(clip)]
        if not clips:
            raise ImpossibleError(
                "no clip in it moves a face", file=file, remedy="'fairswap face draft' shows what it has"
            )
        for clip in clips:
            yield FaceSwap(side, target).carry(clip, still_clip(target.figure, clip.name, clip.rate, clip.frames))
    elif is_speech(file):
        units = units_from_phones(read_phones(file), Fraction(rate), strength)
        yield perform_units(target, units, still_clip(target.figure, file.stem, Fraction(rate), units.shape[1]))
    else:
        tracks = read_tracks(file)
        chart = given or chart_from_names(tracks.names, file.stem)
        known = {name: row for name, row in zip(tracks.names, tracks.weights, strict=True) if name in chart.shapes}
        if not known:
            remedy = "Name the columns after face units, or give --source-face"
            raise ImpossibleError("none of its tracks is known", file=file, remedy=remedy)
        for name in set(tracks.names) - set(known):
            click.echo(f"  track {name!r} is not known and does nothing", err=True)
        units = chart.matrix @ chart.shares(known)
        yield perform_units(target, units, still_clip(target.figure, file.stem, tracks.rate, tracks.weights.shape[1]))


def _moments(picture: Path, target: FaceSide, clip: Clip, force: bool) -> list[str]:
    """Twenty-four moments of a face clip as a sheet."""
    import numpy as np

    from fairswap.formats.storage import write_atomically
    from fairswap.picture.face_sheet import reel_sheet

    frames = np.unique(np.linspace(0, clip.frames - 1, 24).round().astype(int)).tolist()
    rows = [(f"{number / float(clip.rate):.2f} s", number) for number in frames]
    frame = target.drafted.frame
    write_atomically(picture, [reel_sheet(target, clip, rows, frame, f"{clip.name} on {target.figure.name}")], force)
    return [str(picture)]


def _roles(document: Document, bones: str | None):  # type: ignore[no-untyped-def]
    """The roles of a figure's bones; None where there are none to speak of, as in a bare head."""
    from fairswap.bones.known import roles_of
    from fairswap.bones.profile import profile_named
    from fairswap.errors import ImpossibleError

    try:
        profile = profile_named(bones) if bones else None
        return roles_of(document.figure, profile, what=f"{document.figure.name!r}", option="--bones")
    except ImpossibleError:
        if bones:
            raise
        return None


def _chart(path: Path):  # type: ignore[no-untyped-def]
    """A chart, or the chart drafted of a figure."""
    from fairswap.face.chart import FaceChart
    from fairswap.face.draft import draft_face
    from fairswap.files import load

    if path.suffix.lower() == ".toml":
        return FaceChart.load(path)
    document = load(path)
    return draft_face(document.figure, _roles(document, None), document.clips_of(document.figure)).chart


def _said(say: tuple[str, ...]) -> dict[str, dict[str, float]]:
    import difflib

    from fairswap.face.units import names, spread

    out: dict[str, dict[str, float]] = {}
    for text in say:
        shape, mark, units = text.partition("=")
        if not mark:
            raise click.BadParameter(f"{text!r} is not SHAPE=UNIT", param_hint="--say")
        for unit in units.split("+"):
            if spread(unit) is None:
                near = difflib.get_close_matches(unit, names(), 1)
                hint = f"; do you mean {near[0]}?" if near else ""
                raise click.BadParameter(f"{unit!r} is no face unit{hint}", param_hint="--say")
            out.setdefault(shape, {})[unit] = 1.0
    return out


def _held_frames(path: Path) -> list[tuple[int, str]]:
    from fairswap.errors import InputError
    from fairswap.face.tracks import number_in, table_rows

    header, rows = table_rows(path)
    lower = [name.lower() for name in header]
    for word in ("frame", "name"):
        if word not in lower:
            raise InputError(
                f"there is no column {word}", file=path, place="line 1", remedy="The columns are frame, name"
            )
    frame, name = lower.index("frame"), lower.index("name")
    return [(round(number_in(row[frame], path, f"line {line}")), row[name]) for line, row in rows]


def _draft_lines(report: dict[str, Any]) -> Iterator[str]:
    shapes = {**report["morphs"], **report["bones"]}
    sure = sum(row["confidence"] >= 0.9 for row in shapes.values())
    yield click.style(
        f"{report['figure']}: {len(report['morphs'])} morphs, {len(report['bones'])} poses of bones", bold=True
    )
    yield f"  {sure} of {len(shapes)} are sure"
    rows = []
    for name, row in shapes.items():
        units = " + ".join(f"{'' if w == 1 else f'{w:g} '}{u}" for u, w in row["units"].items()) or "-"
        if row.get("corrects"):
            units = f"comes in with {' and '.join(row['corrects'])}"
        rows.append((name[:34], units[:58], f"{row['confidence']:.2f}", "; ".join(row["reasons"])[:70]))
    yield from manners.table(rows, ("shape", "units", "sure", "why"))
    from fairswap.face.check import coverage_rows

    yield from _cover(coverage_rows(report["coverage"]))
    yield from (f"  wrote    {path}" for path in report["written"])
    yield from manners.finding_lines(report["findings"])


def _cover(rows: list[dict[str, Any]]) -> Iterator[str]:
    """Coverage by region, a line for each."""
    for row in rows:
        color = {"full": "green", "in part": "yellow", "none": "red"}[row["verdict"]]
        missing = row["missing"]
        said = (
            f"; not {', '.join(missing[:5])}{' …' if len(missing) > 5 else ''}"
            if missing and row["verdict"] == "in part"
            else ""
        )
        yield f"  {row['region']:12} {click.style(row['verdict'], fg=color)}{said}"


def _applied_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['clip']} onto {report['onto']}", bold=True)
    for clip in report["clips"]:
        yield f"  clip     {clip['name']}: {clip['seconds']:.2f} s at {clip['rate']:g}, {len(clip['used'])} shapes used"
        for row in clip["lost"]:
            instead = f"; instead {' and '.join(row['instead'])}" if row["instead"] else ""
            much = f"{row['lost']:.2f} of {row['wanted']:.2f} at {row['at_s']:.2f} s"
            yield f"           lost: {row['unit']} {much}{instead}"
    yield from (f"  wrote    {path}" for path in report["written"])
    yield from manners.finding_lines(report["findings"])
