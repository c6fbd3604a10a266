"""``fairswap fit FILE --platform P -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.many import OverFiles
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, RuleRow, finding_rows, rule_row
from fairswap.cli.text import first_of_each, written_lines

if TYPE_CHECKING:
    from fairswap.bones.profile import BoneProfile
    from fairswap.figures.placing import Place
    from fairswap.platform.changes import Change
    from fairswap.platform.preparing import Fitted
    from fairswap.platform.proof import Proof


# Of more clips the worst are told.
_CLIPS_IN_FULL = 3


class PartRow(Report, frozen=True):
    """How far the skin of a body part is off."""

    mean_mm: float
    worst_mm: float


class ProofRow(Report, frozen=True):
    """How far the skin is from where it was, in millimetres, over frames of clips."""

    mean_mm: float
    worst_mm: float
    parts: dict[str, PartRow]


class FittedClipRow(Report, frozen=True):
    """How alike a clip that was made to fit and what it was look."""

    clip: str
    likeness: float
    verdict: str


class FitReport(Report, frozen=True):
    """What fitting changed, what it cost, what was written and whether that fits. ``clips`` are compared with what they
    were, unless they were just converted: then they are compared with their sources, there."""

    file: str
    platform: str
    changes: tuple[Change, ...] = ()
    proof: ProofRow | None = None
    reel_proof: ProofRow | None = None
    clips: tuple[FittedClipRow, ...] = ()
    written: tuple[str, ...] = ()
    fits: bool = False
    copied: bool = False
    left: tuple[RuleRow, ...] = ()
    findings: tuple[FindingRow, ...] = ()


@click.command(cls=OverFiles)
@click.argument("file", type=options.INPUT)
@click.option("--platform", required=True, type=options.name_or_file, metavar="P",
              help="The platform: a built-in name or a file.")  # fmt: skip
@click.option(
    "-o", "--out", required=True, type=options.OUTPUT, metavar="OUT",
    help="OUT.glb: figure and clips together; a folder: the figure, and each motion without its mesh.",
)  # fmt: skip
@options.bones
@options.place
@options.without
@click.option("--height", "height_m", type=options.NumberBetween(0.01, 1000.0), metavar="M",
              help="Make the figure so tall, in metres, with its clips.")  # fmt: skip
@click.option("--scale", type=options.NumberBetween(1e-3, 1e3), metavar="FACTOR",
              help="Make the figure larger by this, with its clips.")  # fmt: skip
@click.option("--triangles", type=options.WholeBetween(4), metavar="N",
              help="No more triangles than this, whatever the platform allows.")  # fmt: skip
@click.option("--atlas", is_flag=True, help="Merge its materials and their pictures into one, whatever is allowed.")
@click.option("--texture", "textures", multiple=True, metavar="MATERIAL=FILE",
              help="The colour picture of a material that lacks it. Repeatable.")  # fmt: skip
@options.avatar_options
@click.option("--picture", type=options.OUTPUT, metavar="FILE.png", help="Draw where the skin changed.")
@options.view
@options.reading
@options.show_all
@options.writing
def command(
    file: Path, platform: str, out: Path, bones: str | None, place: Place, without: tuple[str, ...],
    height_m: float | None, scale: float | None, triangles: int | None, atlas: bool, textures: tuple[str, ...],
    meta: Path | None, springs: bool, picture: Path | None, reading: options.Reading, show_all: bool, output: Output,
) -> None:  # fmt: skip
    """Make the figure of FILE and its clips fit a platform, tell every change and its cost, and check what was written.

    What already fits is copied, byte for byte, if it is not compressed. Exit status 1 if something is left that does
    not fit.
    """
    from fairswap.bones.profile import profile_named

    fit_file(file, platform, out, profile_named(bones) if bones else None, picture, reading, output, place,
             (meta, springs), (height_m, scale), (triangles, atlas),
             textures, without, show_all)  # fmt: skip


def fit_file(
    file: Path, platform: str, out: Path, bones: BoneProfile | None, picture: Path | None, reading: options.Reading,
    output: Output, place: Place = "keep", said: tuple[Path | None, bool] = (None, False),
    size: tuple[float | None, float | None] = (None, None), lighter: tuple[int | None, bool] = (None, False),
    textures: tuple[str, ...] = (), without: tuple[str, ...] = (), show_all: bool = False,
) -> None:  # fmt: skip
    """Fit one file and report; ends with status 1 if something is left that does not fit."""
    from fairswap.figures.placing import place as placed
    from fairswap.platform.fitting import fit
    from fairswap.platform.rules import platform_named
    from fairswap.platform.writing import copied_if_it_fits

    rules, document = platform_named(platform), reading.load(file)
    if without:
        from fairswap.figures.leaving import leave_out

        document = leave_out(document, *without)
    if size != (None, None):
        from fairswap.figures.sizing import resize

        document = resize(document, height_m=size[0], factor=size[1])
    for name, picture_file in options.pairs(textures, "--texture", "MATERIAL=FILE"):
        from fairswap.figures.painting import with_texture

        document = with_texture(document, name, options.name_or_file(picture_file))
    document = placed(document, place)
    output.announce(picture)
    as_it_is = reading == options.Reading() and place == "keep" and said == (None, False) and size == (None, None)
    as_it_is &= lighter == (None, False) and not textures and not without
    if as_it_is and copied_if_it_fits(document, rules, out, output.files):
        report = FitReport(str(file), rules.name, written=(str(out),), fits=True, copied=True)
    else:
        report = finished_fit(
            fit(document, rules, bones=bones, meta=said[0], springs=said[1], triangles=lighter[0], atlas=lighter[1]),
            out,
            picture,
            str(file),
            output,
            judged=True,
        )
    output.report(report, partial(fit_lines, whole=show_all))
    if not report.fits:
        output.failed()


def finished_fit(
    fitted: Fitted, out: Path, picture: Path | None, source: str, output: Output, *, judged: bool = False
) -> FitReport:
    """Write what was fitted, check it afresh, draw it, and if it shall be ``judged`` compare its clips with what they
    were; give the report."""
    from fairswap.jobs.comparing import compare_fitted
    from fairswap.platform.writing import check_written, write_fitted

    if picture is not None:
        output.files.reserve(picture)
    written = write_fitted(fitted, out, output.files)
    checks = check_written(written, fitted.platform)
    if picture is not None and (fitted.proof or fitted.reel_proof or fitted.reduced) is not None:
        from fairswap.picture.verbs import loss

        written.append(output.write(picture, loss(fitted)))
    return FitReport(
        file=source,
        platform=fitted.platform.name,
        changes=fitted.changes,
        proof=proof_row(fitted.proof),
        reel_proof=proof_row(fitted.reel_proof),
        clips=tuple(
            FittedClipRow(row.clip, row.likeness, row.verdict) for row in (compare_fitted(fitted) if judged else ())
        ),
        written=tuple(written),
        fits=all(check.fits for check in checks),
        left=tuple(rule_row(row) for check in checks for row in check.broken),
        findings=finding_rows(fitted.findings),
    )


def proof_row(proof: Proof | None) -> ProofRow | None:
    """A proof as it is reported."""
    if proof is None:
        return None
    return ProofRow(proof.mean_mm, proof.worst_mm, {part: PartRow(*row) for part, row in proof.parts.items()})


def fit_lines(report: FitReport, whole: bool = True) -> Iterator[str]:
    """A fitting for people; unless the ``whole`` list is wanted, a few changes by each rule."""
    rules = [change.rule for change in report.changes]
    verdict = "fits" if report.fits else "does not fit yet"
    yield click.style(f"{report.file} for {report.platform}: {verdict}", bold=True)
    if report.copied:
        yield "  it fitted already and was copied as it is"
    # Of many that cost something those that cost most.
    dearest = sorted(report.changes, key=lambda change: -change.amount)
    dearest.sort(key=lambda change: rules.index(change.rule))
    for change, more in first_of_each(dearest, lambda change: change.rule, whole):
        cost = f"  ({change.cost})" if change.cost else ""
        yield f"  {change.rule:26} {change.what}{cost}"
        if more:
            yield f"  {'':26} and {more} more, none worse; --all lists them"
    yield from _clip_lines(report.clips, whole)
    for proof, words in ((report.proof, "in its own clips"), (report.reel_proof, "through every joint")):
        if proof is not None:
            yield f"  the skin {words}: {proof.mean_mm:.2f} mm off on average, {proof.worst_mm:.1f} mm at worst"
    if report.proof is not None:
        parts = sorted(report.proof.parts.items(), key=lambda row: -row[1].mean_mm)
        off = [f"{part} {row.mean_mm:.2f}" for part, row in parts if row.mean_mm > 0.005]
        if off:
            yield f"           {', '.join(off)}"
    for row, more in first_of_each(report.left, lambda row: row.rule, whole):
        word = click.style("left", fg="red")
        yield f"  {word}     {row.rule} of {row.place}: {row.measured}, allowed is {row.allowed}"
        if more:
            yield f"           and of {more} more; --all lists them"
    yield from written_lines(report.written, sizes=True, whole=whole)


def _clip_lines(clips: Sequence[FittedClipRow], whole: bool) -> Iterator[str]:
    """How alike the clips and what they were look, the worst first."""
    told = sorted(clips, key=lambda row: row.likeness)
    for row in told if whole else told[:_CLIPS_IN_FULL]:
        yield f"  clip     {row.verdict}"
    if len(told) > _CLIPS_IN_FULL and not whole:
        yield f"           and {len(told) - _CLIPS_IN_FULL} more, none worse; --all lists them"
