"""``fairswap demo [DIR]``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.command()
@click.argument("folder", default="lantern-street", metavar="[DIR]", type=click.Path(path_type=Path, file_okay=False))
@manners.writing
def command(folder: Path, as_json: bool, quiet: bool, force: bool) -> None:
    """Write the Lantern Street Troupe into DIR and carry each act over to the other figure.

    Juniper, a stilt dancer (+Y up, metres, T-pose), Osric, a lamplighter (+Z up, inches, arms down), and Pip, the
    lantern boy (30 bones, A-pose), swap six acts: a walk, a turn and a bow, a lamp lit, a clap, a leap, an idle stand;
    and a spoken line with expressions, by morphs, by bones, and by eleven shapes.
    """
    from fairswap.demo.example import run_example, run_faces, run_stages

    with manners.progress(23, "carrying over", quiet) as step:
        done = run_example(folder, force, step)
        spoken = run_faces(folder, force, step=step)
        staged = run_stages(folder, force, step)
    report = {
        "folder": str(folder),
        "conversions": [
            {
                "act": row.act,
                "motion": row.motion,
                "figure": row.figure,
                "result": row.result,
                "picture": row.sheet,
                "touches": len(row.carried.touches),
                "touch_off_cm": round(100 * max((touch.off_m for touch in row.carried.touches), default=0.0), 3),
                "against_source": row.proof.as_dict(),
                "as_carried": row.plain.as_dict(),
                "as_carried_against_performed_directly": row.truth.as_dict(),
            }
            for row in done
        ],
        "faces": [
            {
                "motion": row.motion,
                "figure": row.figure,
                "result": row.result,
                "picture": row.picture,
                "off_mean_percent": round(100 * row.off_mean, 3),
                "off_worst_percent": round(100 * row.off_worst, 3),
                **row.face.as_dict(),
            }
            for row in spoken
        ],
        "stages": [
            {
                "figure": row.figure,
                "stage": row.stage,
                "files": list(row.files),
                "fits": not row.left,
                "left": [rule.as_dict() for rule in row.left],
                "changes": [change.as_dict() for change in row.fitted.changes],
                "proof": row.fitted.proof.as_dict() if row.fitted.proof else None,
            }
            for row in staged
        ],
    }
    manners.emit(report, _lines(report), as_json, quiet)
    if not all(row.proof.looks_same for row in done) or any(row.left for row in staged):
        raise click.exceptions.Exit(1)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    folder = report["folder"]
    yield click.style(f"The Lantern Street Troupe is in {folder}/", bold=True)
    yield ""
    rows = []
    for row in report["conversions"]:
        proof, plain = row["against_source"], row["as_carried"]
        rows.append(
            (
                row["motion"],
                row["result"],
                f"{proof['likeness']:.0f}",
                f"{proof['limbs_mean_degrees']:.2f}",
                f"{plain['after']['skate_cm_s']:.1f}",
                f"{proof['after']['skate_cm_s']:.1f}",
                f"{proof['after']['sole_below_cm']:.1f}",
                f"{100 * proof['contacts']['kept_share']:.0f}",
                f"{row['touch_off_cm']:.1f}" if row["touches"] else "-",
            )
        )
    heads = ("motion", "result", "of 100", "limbs", "slid", "slides", "below", "stands", "touch")
    yield from manners.table(rows, heads)
    yield ""
    yield "  limbs: degrees off, mean. slid, slides: a standing foot, cm/s, as carried over and when planted. below:"
    yield "  deepest sole, cm. stands: % of the time the source's feet do. touch: hands from what they meet, cm."
    yield ""
    for row in report["faces"]:
        yield f"  {row['motion']} → {row['result']}: the face is {row['off_mean_percent']:.2f} % of the head off, mean"
    yield ""
    yield from manners.table(
        [
            (
                row["figure"],
                row["stage"],
                str(len(row["files"])),
                "fits" if row["fits"] else "does not fit",
                f"{row['proof']['mean_mm']:.2f}" if row["proof"] else "-",
                f"{row['proof']['worst_mm']:.0f}" if row["proof"] else "-",
            )
            for row in report["stages"]
        ],
        ("figure", "stage", "files", "checked", "skin off mm, mean", "worst"),
    )
    first = report["conversions"][0]
    motion, figure = f"{folder}/{first['motion']}", f"{folder}/{first['figure']}"
    yield ""
    yield "  Play the .glb files in any glTF viewer, look at the .png sheets, then do it yourself:"
    yield f"    fairswap inspect {motion}"
    yield f"    fairswap convert {motion} --onto {figure} -o mine.glb --picture mine.png"
    yield f"    fairswap compare {motion} mine.glb"
