"""Fit how sure the identification of bones may be, on generated rigs, and report on others.

``python bench/calibrate.py`` fits the log-odds of being right on rigs 10000 to 10599 and prints them for
``fairswap.bones.identification.CALIBRATION``; then, with the constants that stand there now, the table on the
held-back rigs 20000 to 20399 (alone with ``--held-back``).
"""

from __future__ import annotations

import sys
from collections import Counter

import numpy as np

from fairswap.bones.identification import CALIBRATION, identify
from fairswap.demo.rigs import NAMINGS, odd_rig

FIT, HELD = range(10000, 10600), range(20000, 20400)


def features_and_truth(seeds: range) -> tuple[np.ndarray, np.ndarray]:
    rows, right = [], []
    for seed in seeds:
        rig = odd_rig(seed)
        for role, answer in identify(rig.figure).answers.items():
            if answer.side_sure > 0.9:  # doubt about sides is counted apart
                rows.append([1.0, *answer.features.values()])
                right.append(rig.truth.get(role) == answer.bone)
    return np.array(rows), np.array(right, dtype=np.float64)


def fitted(rows: np.ndarray, right: np.ndarray) -> np.ndarray:
    """Logistic regression by Newton's steps, held a little towards zero."""
    weights = np.zeros(rows.shape[1])
    hold = 1.0 * np.eye(rows.shape[1])
    for _ in range(30):
        chance = 1.0 / (1.0 + np.exp(-rows @ weights))
        slope = rows.T @ (right - chance) - hold @ weights
        curve = (rows * (chance * (1 - chance))[:, None]).T @ rows + hold
        weights += np.linalg.solve(curve, slope)
    return weights


def table(seeds: range) -> None:
    asked, right, sure, wrong = Counter(), Counter(), Counter(), Counter()
    bins = np.zeros((10, 2))
    for naming in NAMINGS:
        for seed in range(seeds.start, seeds.stop):
            if seed % len(NAMINGS) != NAMINGS.index(naming):
                continue
            rig = odd_rig(seed, naming)
            found = identify(rig.figure).answers
            for role, bone in rig.truth.items():
                asked[naming] += 1
                right[naming] += role in found and found[role].bone == bone
            for role, answer in found.items():
                correct = rig.truth.get(role) == answer.bone
                bins[min(int(answer.confidence * 10), 9)] += (1, correct)
                sure[naming] += answer.confidence >= 0.9
                wrong[naming] += answer.confidence >= 0.9 and not correct
    print(f"{'names':12} {'bones':>6} {'right %':>8} {'sure %':>8} {'sure and wrong':>15}")
    for naming in (*NAMINGS, "all"):
        keys = NAMINGS if naming == "all" else (naming,)
        n, ok, s, w = (sum(counter[key] for key in keys) for counter in (asked, right, sure, wrong))
        print(f"{naming:12} {n:6} {100 * ok / n:8.2f} {100 * s / n:8.1f} {w:15}")
    print("confidence: answers, right %")
    for number, (count, good) in enumerate(bins):
        if count:
            print(f"  {number / 10:.1f} to {number / 10 + 0.1:.1f}: {int(count):6} {100 * good / count:7.2f}")


if __name__ == "__main__":
    if "--held-back" not in sys.argv:
        names = ["constant", *list(CALIBRATION)[1:]]
        weights = fitted(*features_and_truth(FIT))
        print("CALIBRATION =", {name: round(float(weight), 2) for name, weight in zip(names, weights, strict=True)})
    table(HELD)
