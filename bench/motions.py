"""How motions fare on the troupe, as a table: the acts, and recordings that are given.

``python bench/motions.py [FILE.bvh …]``. Knees are told from the places of joints alone; all else is the verdict's.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

import fairswap
from fairswap.demo.anatomy import BODIES
from fairswap.demo.repertoire import ACTS

HEAD = ("motion", "onto", "of 100", "worst part", "knees °", "jerk", "slide cm/s", "below floor cm", "hands inside s")


def knees(rigged: fairswap.RiggedFigure, clip: fairswap.Clip) -> np.ndarray:
    """How far both knees are bent, degrees ``(2, frames)``."""
    place, bones, found = clip.world().positions, rigged.roles.bones, []
    for side in ("left", "right"):
        hip, knee, foot = (place[:, bones[f"{part}_{side}"]] for part in ("upper_leg", "lower_leg", "foot"))
        a, b = knee - hip, foot - knee
        cosine = (a * b).sum(axis=1) / np.linalg.norm(a, axis=1) / np.linalg.norm(b, axis=1)
        found.append(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))))
    return np.array(found)


def row(motion: str | fairswap.Document, name: str, target: str) -> tuple[str, ...]:
    done = fairswap.convert(motion, fairswap.demo_file(f"{target.lower()}.glb")).done[0]
    found, swap = done.comparison, done.swap
    apart = np.abs(knees(swap.source, done.original) - knees(swap.target, done.clip)).mean(axis=1).max()
    worst = min(found.parts, key=lambda part: part.score)
    part = f"{worst.part}: {worst.because} ({worst.value:.1f} {worst.unit})" if worst.score < 99.5 else ""
    numbers = (apart, found.jerk_ratio, found.result_footing.skate_cm_s, found.result_footing.sole_below_cm)
    inside = found.inside_body_s[1]
    told = "" if inside is None else f"{inside:.1f}"
    return (name, target, f"{found.likeness:.0f}", part, *(f"{number:.2f}" for number in numbers), told)


def main(recordings: list[str]) -> None:
    rows = [row(fairswap.demo_motion(name, by="Juniper"), name, target)
            for name in ACTS for target in BODIES if target != "Juniper"]  # fmt: skip
    rows += [row(fairswap.demo_motion(name, by="Osric"), f"{name} (Osric's)", "Juniper") for name in ACTS]
    rows += [row(path, Path(path).stem, target) for path in recordings for target in BODIES]
    for line in (HEAD, ["---"] * len(HEAD), *rows):
        print("| " + " | ".join(line) + " |")


if __name__ == "__main__":
    main(sys.argv[1:])
