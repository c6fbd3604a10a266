"""``fairswap reel FIGURE -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.command()
@click.argument("figure_file", metavar="FIGURE", type=click.Path(path_type=Path))
@click.option("-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT", help="Write this file.")
@click.option("--bones", metavar="P", help="Bone profile of FIGURE: a file or a name.")
@click.option("--rate", type=click.IntRange(1, 240), default=30, metavar="N", help="Frames per second (30).")
@click.option(
    "--picture",
    type=click.Path(path_type=Path),
    metavar="FILE.png",
    help="Draw every expression and mouth shape in it.",
)
@manners.unit
@manners.up
@manners.writing
def command(
    figure_file: Path,
    out: Path,
    bones: str | None,
    rate: int,
    picture: Path | None,
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Write FIGURE with a proving clip: every joint through its range, then every shape of its face, one by one.

    Look at it once for a new figure or a new bone profile: a wrong bone, a swapped side or a bad skin weight shows at
    once.
    """
    from fairswap.body.reel import reel_of
    from fairswap.body.subject import Subject
    from fairswap.bones.profile import profile_named
    from fairswap.errors import UsageError
    from fairswap.face.carry import FaceSide
    from fairswap.face.reel import with_face_reel
    from fairswap.files import load, save
    from fairswap.formats.storage import write_atomically
    from fairswap.picture.face_sheet import reel_sheet

    manners.never_an_input(out, (figure_file,))
    document = load(figure_file, unit=unit, up=up)
    clip = next(iter(document.clips_of(document.figure)), None)
    subject = Subject("target", document.figure, profile_named(bones) if bones else None, clip=clip)
    reel, moves = reel_of(subject, rate)
    side = FaceSide(document.figure, subject.roles)
    reel, shapes = with_face_reel(side, reel)
    written = save(out, document.figure, [reel], force=force)
    if picture is not None:
        manners.never_an_input(picture, (figure_file,))
        rows = [(name, round((start + stop) / 2 * rate)) for name, start, stop in shapes]
        if not rows:
            raise UsageError(f"{document.figure.name!r} has no face to draw", remedy="Leave --picture out")
        frame = side.drafted.frame
        title = f"{document.figure.name}: the face in the reel"
        write_atomically(picture, [reel_sheet(side, reel, rows, frame, title)], force)
        written.append(str(picture))
    report = {
        "figure": document.figure.name,
        "seconds": round(reel.duration_s, 4),
        "moves": [vars(move) for move in moves],
        "shapes": [{"name": name, "start_s": start, "stop_s": stop} for name, start, stop in shapes],
        "written": [str(path) for path in written],
        "findings": [finding.as_dict() for finding in document.findings],
    }
    manners.emit(report, _lines(report), as_json, quiet)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    moves = report["moves"]
    yield click.style(f"{report['figure']}: {len(moves)} moves in {report['seconds']:.0f} s", bold=True)
    rows: dict[str, tuple[float, list[str]]] = {}
    for move in moves:
        rows.setdefault(move["role"], (move["start_s"], []))[1].append(move["name"])
    yield from manners.table(
        [(f"{start:.1f}", role, ", ".join(names)) for role, (start, names) in rows.items()], ("at s", "role", "moves")
    )
    if report["shapes"]:
        yield f"  then {len(report['shapes'])} shapes of the face, from {report['shapes'][0]['start_s']:.1f} s on"
    yield from (f"  wrote    {path}" for path in report["written"])
    yield from manners.finding_lines(report["findings"])
