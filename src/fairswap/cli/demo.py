"""``fairswap demo [DIR]``."""

from __future__ import annotations

import shlex
import shutil
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.convert_reports import FaceRow, face_row
from fairswap.cli.fit import ProofRow, proof_row
from fairswap.cli.output import Output
from fairswap.cli.reports import ComparisonRow, FindingRow, Report, RuleRow, comparison_row, finding_rows, rule_row
from fairswap.cli.text import table
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.demo.example import Called, Shown, Spoken, Staged
    from fairswap.platform.changes import Change


class DemoConversion(Report, frozen=True):
    """One act carried over to another figure, measured before and after feet and hands, and against the truth."""

    act: str
    motion: str
    figure: str
    result: str
    picture: str
    touches: int
    touch_off_cm: float
    against_source: ComparisonRow
    as_transferred: ComparisonRow
    as_transferred_against_performed_directly: ComparisonRow


class DemoFace(FaceRow, frozen=True):
    """The spoken line on another face: how far landmarks are off the line performed directly, percent of the head."""

    motion: str
    figure: str
    result: str
    picture: str
    off_mean_percent: float
    off_worst_percent: float


class DemoCall(FaceRow, frozen=True):
    """A text spoken by a figure."""

    text: str
    figure: str
    result: str
    picture: str
    seconds: float
    findings: tuple[FindingRow, ...]


class DemoStage(Report, frozen=True):
    """A figure with all acts brought to a stage."""

    figure: str
    stage: str
    files: tuple[str, ...]
    fits: bool
    left: tuple[RuleRow, ...]
    changes: tuple[Change, ...]
    proof: ProofRow | None


class DemoReport(Report, frozen=True):
    """The full example."""

    folder: str
    conversions: tuple[DemoConversion, ...]
    faces: tuple[DemoFace, ...]
    calls: tuple[DemoCall, ...]
    page: str
    stages: tuple[DemoStage, ...]


@click.command()
@click.argument("folder", default="lantern-street", metavar="[DIR]", type=click.Path(path_type=Path, file_okay=False))
@click.option("--no-pictures", is_flag=True, help="Draw no sheets, which takes half of the time.")
@options.writing
def command(folder: Path, no_pictures: bool, output: Output) -> None:
    """Write the Lantern Street Troupe into DIR and carry each act over to the other figure.

    Juniper, a stilt dancer (+Y up, metres, T-pose), Osric, a lamplighter (+Z up, inches, arms down), and Pip, the
    lantern boy (30 bones, A-pose), swap six acts: a walk, a turn and a bow, a lamp lit, a clap, a leap, an idle stand;
    and a spoken line with expressions, by morphs, by bones, and by eleven shapes. All three call out a text.
    """
    from fairswap.demo.example import Pictures, run_example

    with output.progress(28, "playing") as step:
        played = run_example(folder, output.files, Pictures(output.files, not no_pictures), step)
    report = DemoReport(
        str(folder),
        tuple(_conversion(row) for row in played.conversions),
        tuple(_face(row) for row in played.faces),
        tuple(_call(row) for row in played.calls),
        played.page.name if played.page is not None else "",
        tuple(_stage(row) for row in played.stages),
    )
    output.report(report, lines)
    if not all(row.proof.looks_same for row in played.conversions) or any(row.left for row in played.stages):
        output.failed()


def _conversion(row: Shown) -> DemoConversion:
    touches = row.retargeted.touches
    compared = (comparison_row(found) for found in (row.proof, row.as_transferred, row.truth))
    off = 100.0 * max((touch.off_m for touch in touches), default=0.0)
    return DemoConversion(row.act, row.motion, row.figure, row.result, row.sheet, len(touches), off, *compared)


def _face(row: Spoken) -> DemoFace:
    face = face_row(row.face.used, row.face.lost)
    names = row.motion, row.figure, row.result, row.picture
    return DemoFace(face.used, face.lost, *names, 100.0 * row.off_mean, 100.0 * row.off_worst)


def _call(row: Called) -> DemoCall:
    face, clip = row.made.faces[0], row.made.clips[0]
    used = face_row(face.used, face.lost)
    told = finding_rows(row.made.findings)
    return DemoCall(used.used, used.lost, row.text, row.figure, row.result, row.picture, clip.duration_s, told)


def _stage(row: Staged) -> DemoStage:
    left = tuple(rule_row(rule) for rule in row.left)
    return DemoStage(row.figure, row.stage, row.files, not left, left, row.fitted.changes, proof_row(row.fitted.proof))


def lines(report: DemoReport) -> Iterator[str]:
    """The example for people, and what to do next."""
    folder = report.folder
    yield click.style(f"The Lantern Street Troupe is in {folder}/", bold=True)
    yield ""
    heads = ("motion", "result", "of 100", "limbs", "slid", "slides", "below", "stands", "touch")
    yield from table([_cells(row) for row in report.conversions], heads)
    yield ""
    yield "  limbs: degrees off, mean. slid, slides: a standing foot, cm/s, as carried over and when planted. below:"
    yield "  deepest sole, cm. stands: % of the time the source's feet do. touch: hands from what they meet, cm."
    yield ""
    for face in report.faces:
        yield f"  {face.motion} → {face.result}: the face is {face.off_mean_percent:.2f} % of the head off, mean"
    for call in report.calls:
        used = counted(len(call.used), "shape")
        yield f"  {call.text} → {call.result}: {call.seconds:.1f} s spoken from the words, {used} used"
    yield ""
    stages = [
        (
            row.figure,
            row.stage,
            str(len(row.files)),
            "fits" if row.fits else "does not fit",
            f"{row.proof.mean_mm:.2f}" if row.proof else "-",
            f"{row.proof.worst_mm:.0f}" if row.proof else "-",
        )
        for row in report.stages
    ]
    yield from table(stages, ("figure", "stage", "files", "checked", "skin off mm, mean", "worst"))
    yield ""
    yield "  skin off: how far the skin is from where it was, through every joint and act; fewer bones bend elsewhere."
    first = report.conversions[0]
    motion, figure = f"{folder}/{first.motion}", f"{folder}/{first.figure}"
    yield ""
    if report.page:
        yield f"  Open {folder}/{report.page} in a browser: every act, performed and carried over, side by side."
    else:
        yield "  With pip install 'fairswap[view]' there would be a page that plays every act in a browser."
    yield "  Play the .glb files in any glTF viewer, look at the .png sheets, then do it yourself:"
    yield from _on_the_path()
    yield f"    fairswap inspect {motion}"
    yield f"    fairswap convert {motion} --onto {figure} -o mine.glb --view mine.html"
    yield f"    fairswap compare {motion} mine.glb"


def _on_the_path() -> Iterator[str]:
    """How a shell finds the command, where it does not: of an environment that is not active."""
    activate = Path(sys.prefix, "bin", "activate")
    if shutil.which("fairswap") is None and activate.exists():
        with suppress(ValueError):
            activate = activate.relative_to(Path.cwd())
        yield f"    . {shlex.quote(str(activate))}    # the shell finds fairswap from here on"


def _cells(row: DemoConversion) -> tuple[str, ...]:
    proof, before = row.against_source, row.as_transferred
    return (
        row.motion,
        row.result,
        f"{proof.likeness:.0f}",
        f"{proof.limbs_mean_degrees:.2f}",
        f"{before.result_footing.skate_cm_s:.1f}",
        f"{proof.result_footing.skate_cm_s:.1f}",
        f"{proof.result_footing.sole_below_cm:.1f}",
        f"{100 * proof.contacts.kept_share:.0f}",
        f"{row.touch_off_cm:.1f}" if row.touches else "-",
    )
