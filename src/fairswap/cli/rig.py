"""``fairswap rig MESH -o FIGURE``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import table, written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.bones.profile import BoneProfile
    from fairswap.figures.rigging.landmarks import Landmarks
    from fairswap.model.arrays import Floats


class PlaceRow(Report, frozen=True):
    """Where a joint is (metres, in our space), how sure that is, and what it was found by."""

    role: str
    place: tuple[float, float, float]
    certainty: float
    found_by: str


class FoldsRow(Report, frozen=True):
    """How the skin stands the reel: shares that tear and fold, by body part, and its volume at worst."""

    torn: float
    folded: float
    worst_volume: float
    parts: dict[str, tuple[float, float]]


class RigReport(Report, frozen=True):
    """What a mesh got: its skeleton, its places, how its skin moves; and which places would help most by hand."""

    mesh: str
    bones: int
    roles: int
    places: tuple[PlaceRow, ...]
    would_help: tuple[str, ...] = ()
    folds: FoldsRow | None = None
    written: tuple[str, ...] = ()
    findings: tuple[FindingRow, ...] = ()


@click.command()
@click.argument("mesh", type=options.INPUT)
@options.out
@click.option("--skeleton", type=options.name_or_file, default="vrm-1", metavar="P",
              help="Whose bones it gets: a bone profile or platform (vrm-1), or a figure's file.")  # fmt: skip
@click.option("--place", "placed", multiple=True, metavar="ROLE=X,Y,Z",
              help="Where a joint is, as the mesh's file has it. Repeatable.")  # fmt: skip
@click.option("--landmarks", type=options.INPUT, metavar="L.toml", help="Places from a file, corrected by hand.")
@click.option("--landmarks-only", is_flag=True, help="Write OUT.toml, the places found, to be corrected; no figure.")
@click.option("--no-mirror", is_flag=True, help="A place given for the left does not stand for the right as well.")
@click.option("--ends", is_flag=True, help="Mark the ends of the last bones by bones of their own.")
@click.option("--hard", multiple=True, metavar="MESH", help="A mesh that does not bend: boot*, helmet.")
@click.option("--forward", type=click.Choice(["+X", "-X", "+Y", "-Y", "+Z", "-Z"]), help="Where it looks, in its file.")
@click.option("--picture", type=options.OUTPUT, metavar="FILE.png", help="Draw the joints, and how the skin moves.")
@options.view
@options.reading
@options.writing
def command(
    mesh: Path, out: Path, skeleton: str, placed: tuple[str, ...], landmarks: Path | None, landmarks_only: bool,
    no_mirror: bool, ends: bool, hard: tuple[str, ...], forward: str | None, picture: Path | None,
    reading: options.Reading, output: Output,
) -> None:  # fmt: skip
    """Give a MESH without bones a skeleton and skin weights: a sculpture of one piece or of many.

    The joints are found from its shape. Look at them (--picture, --view), correct them by --place, or write them with
    --landmarks-only, correct the file, and give it with --landmarks.
    """
    from fairswap.figures.rigging.making import rig
    from fairswap.formats.files import load, save_to
    from fairswap.jobs.proving import reel
    from fairswap.measure.folding import folds_of

    if landmarks_only and out.suffix.lower() != ".toml":
        raise click.BadParameter("with --landmarks-only OUT is a .toml file", param_hint="-o")
    output.announce(out, picture)
    document = reading.load(mesh)
    said = {}
    if not document.figures:  # a mesh alone is read as it lies, and stood up by its shape, or as said
        document = load(mesh) if reading.up or reading.unit else document
        said = {"up": reading.up, "unit": reading.unit}
    made = rig(
        document, skeleton=_skeleton(skeleton), landmarks=_places(placed, landmarks, not no_mirror), ends=ends,
        hard=hard, forward=forward, **said,
    )  # fmt: skip
    folds = None
    if landmarks_only:
        written = [output.write(out, made.landmarks().text().encode())]
    else:
        moving = reel(made.figure, rate=6)
        folds = folds_of(made.figure, moving.rigged.roles, moving.clip)
        written = save_to(output.files, out, made.figure)
    if picture is not None:
        from fairswap.picture.verbs import rigging

        written.append(output.write(picture, rigging(made, folds)))
    output.show(made.figure)
    rows = tuple(PlaceRow(role, (*place.position.tolist(),), place.certainty, place.found_by)
                 for role, place in made.places.items())  # fmt: skip
    stands = None if folds is None else FoldsRow(folds.torn, folds.folded, folds.worst_volume, folds.parts)
    report = RigReport(
        made.figure.name, len(made.figure.skeleton), len(made.roles), rows, made.would_help, stands, tuple(written),
        finding_rows(made.findings),
    )  # fmt: skip
    output.report(report, _lines)


def _skeleton(name: str) -> BoneProfile | str:
    """A platform's bone profile; else a profile or a file, as it is."""
    from fairswap.errors import InputError
    from fairswap.platform.rules import platform_named

    if Path(name).is_file() and Path(name).suffix != ".toml":
        return name
    try:
        return platform_named(name).profile
    except InputError:
        return name


def _places(placed: tuple[str, ...], file: Path | None, mirror: bool) -> Landmarks:
    """The places of a file, and over them those of the command line."""
    import numpy as np

    from fairswap.figures.rigging.landmarks import Landmarks

    read = Landmarks.load(file) if file is not None else Landmarks("", {})
    said: dict[str, Floats] = {}
    for role, text in options.pairs(placed, "--place", "ROLE=X,Y,Z"):
        try:
            said[role] = np.array([float(part) for part in text.split(",")])
        except ValueError:
            raise click.BadParameter(f"{text!r} is not X,Y,Z", param_hint="--place") from None
    return Landmarks(read.mesh, {**read.places, **said}, read.mirror and mirror)


def _lines(report: RigReport) -> Iterator[str]:
    yield click.style(f"{report.mesh}: {counted(report.bones, 'bone')}, {counted(report.roles, 'role')}", bold=True)
    shown = [row for row in report.places if not row.role.endswith("_right") and not _of_a_finger(row.role)]
    cells = [
        (row.role.removesuffix("_left"), f"{row.certainty:.2f}", ", ".join(f"{x:.3f}" for x in row.place), row.found_by)
        for row in shown
    ]
    yield from table(cells, ("joint", "sure", "left, up, ahead (m)", "found by"))
    fingers = sorted({row.role.split("_")[0] for row in report.places if _of_a_finger(row.role)})
    yield f"  fingers: {', '.join(fingers) or 'none seen'}"
    if report.folds is not None:
        folds = report.folds
        yield (f"  in the reel {100 * folds.torn:.1f} % of the skin tears, {100 * folds.folded:.1f} % folds; "
               f"at worst it has {100 * folds.worst_volume:.0f} % of its volume")  # fmt: skip
    if report.would_help:
        first = report.would_help[0]
        yield f"  would help most, given by hand: {', '.join(report.would_help)}  (--place {first}=X,Y,Z)"
    yield from written_lines(report.written)


def _of_a_finger(role: str) -> bool:
    return role.startswith(("thumb", "index", "middle", "ring", "little"))
