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

    Juniper, a stilt dancer (glTF, +Y up, metres, T-pose), and Osric, a lamplighter (+Z up, inches, arms down), swap a
    walk (BVH) and a turn and a bow (GLB).
    """
    from fairswap.demo.example import run_example

    with manners.progress(2, "carrying over", quiet) as step:
        done = run_example(folder, force, step)
    report = {
        "folder": str(folder),
        "conversions": [
            {
                "motion": row.motion,
                "figure": row.figure,
                "result": row.result,
                "picture": row.sheet,
                "against_source": row.proof.as_dict(),
                "against_performed_directly": row.truth.as_dict(),
            }
            for row in done
        ],
    }
    manners.emit(report, _lines(report), as_json, quiet)
    if not all(row.proof.looks_same and row.truth.looks_same for row in done):
        raise click.exceptions.Exit(1)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    folder = report["folder"]
    yield click.style(f"The Lantern Street Troupe is in {folder}/", bold=True)
    for row in report["conversions"]:
        source, truth = row["against_source"], row["against_performed_directly"]
        yield ""
        title = click.style(f"  {row['motion']} onto {row['figure']}", bold=True)
        yield f"{title}  gives {row['result']}, {row['picture']}"
        hips = f"hips {truth['hips_worst_percent']:.2f} % of leg"
        yield f"    against the motion it came from     {_limbs(source)}"
        yield f"    against the act performed directly  {_limbs(truth)}, {hips}"
        yield f"    feet                                {manners.footing(source)}"
    first = report["conversions"][0]
    motion, figure = f"{folder}/{first['motion']}", f"{folder}/{first['figure']}"
    yield ""
    yield "  Play the .glb files in any glTF viewer, look at the .png sheets, then do it yourself:"
    yield f"    fairswap inspect {motion}"
    yield f"    fairswap convert {motion} --onto {figure} -o mine.glb --picture mine.png"
    yield f"    fairswap compare {motion} mine.glb"


def _limbs(proof: dict[str, Any]) -> str:
    mean, worst = proof["limbs_mean_degrees"], proof["limbs_worst_degrees"]
    return f"limbs {mean:.2f} degrees off on average, {worst:.2f} at worst"
