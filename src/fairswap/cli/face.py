"""``fairswap face draft|check|match|show|apply``."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.convert_reports import FaceRow, face_row
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import table, written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.face.checking import RegionCoverage, ShapeMatch
    from fairswap.face.drafting import FaceDraft

_say = click.option(
    "--say", multiple=True, metavar="SHAPE=UNIT", help="What you know of a shape; several units: SHAPE=UNIT+UNIT."
)
_COVERED = {"full": "green", "in part": "yellow", "none": "red"}


class DraftedShape(Report, frozen=True):
    """What a shape was taken for, in units, how sure, and why."""

    units: dict[str, float]
    confidence: float
    reasons: tuple[str, ...]
    negative: dict[str, float]
    sum: dict[str, float]
    corrects: tuple[str, ...]


class FaceDraftReport(Report, frozen=True):
    """What was found of a head's shapes: its morphs, and poses of its face bones."""

    figure: str
    morphs: dict[str, DraftedShape]
    bones: dict[str, DraftedShape]
    coverage: tuple[RegionCoverage, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class FaceCheckReport(Report, frozen=True):
    """A face chart checked against a head."""

    chart: str
    file: str
    shapes: int
    coverage: tuple[RegionCoverage, ...]
    findings: tuple[FindingRow, ...]


class FaceMatchReport(Report, frozen=True):
    """What each shape of one head is made of on another."""

    source: str
    target: str
    shapes: tuple[ShapeMatch, ...]


class FaceShowReport(Report, frozen=True):
    """The shapes of a head that were drawn, and what of the face they cover."""

    file: str
    shapes: int
    coverage: tuple[RegionCoverage, ...]
    written: tuple[str, ...]


class FaceClipRow(FaceRow, frozen=True):
    """One clip of a face put on a head."""

    name: str
    seconds: float
    rate: float


class FaceApplyReport(Report, frozen=True):
    """Face clips put on a head."""

    source: str
    onto: str
    clips: tuple[FaceClipRow, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


@click.group(name="face")
def command() -> None:
    """Faces: what the shapes of a head do, and expressions and speech put on other heads."""


@command.command(short_help="Find out what each shape of a head does, and write a face chart.")
@click.argument("file", type=options.INPUT)
@click.option("-o", "--out", type=options.OUTPUT, metavar="F.toml", help="Write the chart here.")
@options.save_as
@_say
@options.bones
@options.figure
@click.option("--clip", metavar="NAME", help="A clip in which expressions are held one after the other: draft from it.")
@click.option(
    "--held", type=options.INPUT, metavar="T.csv",
    help="A table frame,name: what is held on which frame of that clip; without, it is found.",
)  # fmt: skip
@options.writing
def draft(
    file: Path, out: Path | None, family: str | None, say: tuple[str, ...], bones: str | None, clip: str | None,
    held: Path | None, output: Output,
) -> None:  # fmt: skip
    """Find out what every morph of FILE (and its face bones) does, by name and by shape, and write a face chart."""
    from fairswap.face.charting import draft as drafted

    paths = options.kept_in("faces", out, family)
    output.announce(*paths)
    found = drafted(options.loaded(file), bones=bones, say=_said(say), held=held, clip=clip)
    written = [output.write(path, found.text(family or path.stem).encode()) for path in paths]
    output.report(_draft_report(found, written), _draft_lines)


@command.command(short_help="Check a face chart against a head.")
@click.argument("chart", metavar="F", type=options.INPUT)
@click.argument("file", type=options.INPUT)
@options.figure
@options.reporting
def check(chart: Path, file: Path, output: Output) -> None:
    """Check the face chart F against FILE: misspelt, missing, dead, out of range, never keyed; near names are offered.

    Exit status 1 if there is a problem.
    """
    from fairswap.face.chart import FaceChart
    from fairswap.face.charting import check as checked
    from fairswap.face.checking import region_coverage

    known = FaceChart.load(chart)
    findings = checked(known, options.loaded(file))
    covered = tuple(region_coverage(known))
    report = FaceCheckReport(known.name, str(file), len(known.shapes), covered, finding_rows(findings))
    output.report(report, _check_lines)
    if any(row.severity == "problem" for row in findings):
        output.failed()


@command.command(short_help="What each shape of one head becomes on another.")
@click.argument("a", type=options.INPUT)
@click.argument("b", type=options.INPUT)
@options.reporting
def match(a: Path, b: Path, output: Output) -> None:
    """Print what each shape of A (a chart or a file) is made of on B, and how much of it is lost."""
    from fairswap.face.charting import match as matched

    output.report(FaceMatchReport(str(a), str(b), tuple(matched(a, b))), _match_lines)


@command.command(short_help="Draw every shape of a head in one sheet.")
@click.argument("file", type=options.INPUT)
@click.option("--face", "chart", type=options.INPUT, metavar="F.toml", help="The chart; without, one is drafted.")
@options.bones
@options.figure
@click.option("-o", "--out", type=options.OUTPUT, required=True, metavar="OUT.png", help="Write this picture.")
@options.writing
def show(file: Path, chart: Path | None, bones: str | None, out: Path, output: Output) -> None:
    """Draw every shape of FILE, each with what it is taken for, and which regions of the face are covered."""
    from fairswap.face.checking import region_coverage
    from fairswap.face.head import Head
    from fairswap.picture.verbs import face as drawn

    output.announce(out)
    head = Head.of(options.loaded(file), bones=bones, chart=chart)
    written = output.write(out, drawn(head))
    covered = tuple(region_coverage(head.chart))
    output.report(FaceShowReport(str(file), len(head.chart.shapes), covered, (written,)), _show_lines)


@command.command(short_help="Put a face clip, tracks from a table, or speech on a head.")
@click.argument("file", metavar="[CLIP]", required=False, type=options.INPUT)
@click.option("--onto", required=True, type=options.INPUT, metavar="HEAD", help="The figure to animate.")
@options.out
@click.option("--source-face", type=options.INPUT, metavar="F.toml", help="Chart of CLIP's shapes.")
@click.option("--target-face", type=options.INPUT, metavar="F.toml", help="Chart of HEAD.")
@click.option("--text", metavar="WORDS", help="What is said in CLIP, a recording; or alone. A .txt file also.")
@click.option("--language", default="en", metavar="L", help="Of the words (en); others need espeak-ng.")
@click.option("--words", type=options.INPUT, metavar="W.csv", help="A table word,phones: how some words are said.")
@click.option(
    "--rate", type=options.WholeBetween(1, 240), default=60, metavar="N", help="Of speech: frames per second (60)."
)
@click.option("--strength", type=options.NumberBetween(0.0, 1.5), default=1.0, metavar="S",
              help="Of speech: how far the mouth goes (1).")  # fmt: skip
@click.option("--pace", type=options.NumberBetween(0.25, 4.0), default=1.0, metavar="P",
              help="Of words without sound: how fast they are spoken (1).")  # fmt: skip
@click.option("--blinks", is_flag=True, help="Of speech: eyes blink now and then.")
@click.option("--nods", is_flag=True, help="Of speech: the head nods a little.")
@click.option("--clip", metavar="NAME", help="Lay it over this clip of HEAD, whose body stays.")
@click.option("--from", "start", type=options.NumberBetween(0.0), default=0.0, metavar="SECONDS",
              help="With --clip: where in it the face begins (0).")  # fmt: skip
@click.option("--ease", type=options.NumberBetween(0.0, 60.0), default=0.2, metavar="SECONDS",
              help="With --clip: how long it comes and goes (0.2).")  # fmt: skip
@options.target_bones
@options.figure
@click.option("--picture", type=options.OUTPUT, metavar="FILE.png", help="Draw moments of it.")
@options.view
@options.writing
def apply(
    file: Path | None, onto: Path, out: Path, source_face: Path | None, target_face: Path | None, text: str | None,
    language: str, words: Path | None, rate: int, strength: float, pace: float, blinks: bool, nods: bool,
    clip: str | None, start: float, ease: float, target_bones: str | None, picture: Path | None, output: Output,
) -> None:  # fmt: skip
    """Put CLIP on the face of HEAD, as a clip beside those that HEAD has, or with --clip over one of them.

    CLIP is a glTF with a face that moves; a table of weights over time (a column time_s, a column for each shape or
    unit); a table of speech (start,end,phone; phones in IPA or ARPAbet); a text (.txt); or a recording (.wav, .flac,
    .ogg), with --text to say what is said in it. Without CLIP, --text is spoken at an easy pace.
    """
    from fairswap.face.applying import apply as applied
    from fairswap.face.speech.speaking import SpeechOptions
    from fairswap.formats.files import save_to

    document = options.loaded(onto)
    output.announce(out, picture)
    speech = SpeechOptions(text, language, words, rate, strength, pace, blinks, nods)
    done = applied(
        file, document, source_chart=source_face, target_chart=target_face, target_bones=target_bones, speech=speech,
        clip=clip, start_s=start, ease_s=ease,
    )  # fmt: skip
    written = save_to(output.files, out, done.head.figure, done.all_clips)
    if picture is not None:
        from fairswap.picture.verbs import moments

        written.append(output.write(picture, moments(done.head, done.faces[0].clip)))
    clips = []
    for face in done.faces:
        row, made = face_row(face.used, face.lost), face.clip
        clips.append(FaceClipRow(row.used, row.lost, made.name, made.duration_s, float(made.rate)))
    report = FaceApplyReport(str(file or "text"), str(onto), tuple(clips), tuple(written), finding_rows(done.findings))
    output.report(report, _apply_lines)


def _said(say: tuple[str, ...]) -> dict[str, dict[str, float]]:
    from fairswap.face.units import names, spread

    out: dict[str, dict[str, float]] = {}
    for shape, units in options.pairs(say, "--say", "SHAPE=UNIT"):
        for unit in units.split("+"):
            if spread(unit) is None:
                near = difflib.get_close_matches(unit, names(), 1)
                hint = f"; do you mean {near[0]}?" if near else ""
                raise click.BadParameter(f"{unit!r} is not a face unit{hint}", param_hint="--say")
            out.setdefault(shape, {})[unit] = 1.0
    return out


def _draft_report(found: FaceDraft, written: list[str]) -> FaceDraftReport:
    from fairswap.face.checking import region_coverage

    rows: dict[bool, dict[str, DraftedShape]] = {False: {}, True: {}}
    for name, guess in found.guesses.items():
        shape = guess.shape
        rows[bool(shape.bones)][name] = DraftedShape(
            units=found.chart.units_of(name) if name in found.chart.shapes else {},
            confidence=guess.confidence,
            reasons=guess.reasons,
            negative=dict(shape.negative),
            sum=dict(shape.total),
            corrects=shape.corrects,
        )
    covered = tuple(region_coverage(found.chart))
    told = finding_rows(found.findings)
    return FaceDraftReport(found.chart.name, rows[False], rows[True], covered, tuple(written), told)


def _draft_lines(report: FaceDraftReport) -> Iterator[str]:
    shapes = {**report.morphs, **report.bones}
    sure = sum(row.confidence >= 0.9 for row in shapes.values())
    counts = f"{counted(len(report.morphs), 'morph')}, {counted(len(report.bones), 'pose')} of bones"
    yield click.style(f"{report.figure}: {counts}", bold=True)
    yield f"  {sure} of {len(shapes)} are sure"
    rows = []
    for name, row in shapes.items():
        units = " + ".join(f"{'' if w == 1 else f'{w:g} '}{u}" for u, w in row.units.items()) or "-"
        if row.corrects:
            units = f"comes in with {' and '.join(row.corrects)}"
        rows.append((name[:34], units[:58], f"{row.confidence:.2f}", "; ".join(row.reasons)[:70]))
    yield from table(rows, ("shape", "units", "sure", "why"))
    yield from _coverage_lines(report.coverage)
    yield from written_lines(report.written)


def _check_lines(report: FaceCheckReport) -> Iterator[str]:
    yield click.style(f"{report.chart} on {Path(report.file).name}: {counted(report.shapes, 'shape')}", bold=True)
    yield from _coverage_lines(report.coverage)


def _match_lines(report: FaceMatchReport) -> Iterator[str]:
    rows = []
    for row in report.shapes:
        made_of = " + ".join(f"{weight:g} {name}" for name, weight in list(row.made_of.items())[:4])
        rows.append((row.shape, made_of or "nothing", f"{100 * row.lost:.0f}"))
    return table(rows, (Path(report.source).name, Path(report.target).name, "lost %"))


def _show_lines(report: FaceShowReport) -> Iterator[str]:
    yield click.style(f"{Path(report.file).name}: {counted(report.shapes, 'shape')}", bold=True)
    yield from _coverage_lines(report.coverage)
    yield from written_lines(report.written)


def _coverage_lines(rows: Sequence[RegionCoverage]) -> Iterator[str]:
    """Coverage by region, a line for each."""
    for row in rows:
        missing = row.missing
        said = ""
        if missing and row.verdict == "in part":
            said = f"; not {', '.join(missing[:5])}{' …' if len(missing) > 5 else ''}"
        yield f"  {row.region:12} {click.style(row.verdict, fg=_COVERED[row.verdict])}{said}"


def _apply_lines(report: FaceApplyReport) -> Iterator[str]:
    yield click.style(f"{report.source} onto {report.onto}", bold=True)
    for clip in report.clips:
        yield f"  clip     {clip.name}: {clip.seconds:.2f} s at {clip.rate:g}, {counted(len(clip.used), 'shape')} used"
        for row in clip.lost:
            instead = f"; instead {' and '.join(row.instead)}" if row.instead else ""
            yield f"           lost: {row.unit} {row.lost:.2f} of {row.wanted:.2f} at {row.at_s:.2f} s{instead}"
    yield from written_lines(report.written)
