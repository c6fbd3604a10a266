"""Check a face chart against a head, and compare two charts."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.errors import Finding
from fairswap.face.chart import FaceChart
from fairswap.face.coverage import coverage, verdict_of
from fairswap.face.geometry import rest_moves
from fairswap.model.bounded import bounded_weights
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure


def check_chart(chart: FaceChart, figure: Figure, clips: Sequence[Clip] = ()) -> list[Finding]:
    """What does not fit between a chart and a head: misspelt, missing, dead, out of range, never keyed."""
    found: list[Finding] = []
    there = list(dict.fromkeys(name for mesh in figure.meshes for name in mesh.morph_names))
    bones = set(figure.skeleton.names)
    for name, shape in chart.shapes.items():
        if shape.bones:
            for bone in shape.bones:
                if bone not in bones:
                    remedy = _nearest(bone, sorted(bones))
                    message = f"pose {name!r} moves bone {bone!r}, which is not there"
                    found.append(Finding("bone-missing", "problem", name, message, remedy))
        elif name not in there:
            message = f"there is no morph {name!r}"
            found.append(Finding("shape-missing", "problem", name, message, _nearest(name, there)))
    for name in there:
        if name not in chart.shapes:
            near = _nearest(name, list(chart.shapes))
            found.append(Finding("shape-unknown", "warning", name, f"the chart does not know morph {name!r}", near))
    for mesh in figure.meshes:
        _, moves = rest_moves(figure, mesh)
        for name, row in zip(mesh.morph_names, moves, strict=True):
            if np.abs(row).max(initial=0.0) < 1e-6:
                found.append(
                    Finding("shape-dead", "warning", name, f"{name!r} moves nothing", "Export it again, or drop it")
                )
    keyed: set[str] = set()
    for clip in clips:
        for track in clip.poses.morph_tracks:
            for name, weights in zip(figure.meshes[track.mesh].morph_names, track.weights, strict=True):
                if np.abs(weights).max(initial=0.0) > 1e-4:
                    keyed.add(name)
                known = chart.shapes.get(name)
                if known is None:
                    continue
                slack = 0.02 * (known.high - known.low)
                if weights.min() < known.low - slack or weights.max() > known.high + slack:
                    goes = f"{weights.min():.3g} to {weights.max():.3g}"
                    message = (
                        f"clip {clip.name!r} drives {name!r} from {goes}, its range is {known.low:g} to {known.high:g}"
                    )
                    remedy = (
                        f"Set range = [{min(weights.min(), 0):.3g}, {weights.max():.3g}] in the chart, or mend the clip"
                    )
                    found.append(Finding("out-of-range", "warning", name, message, remedy))
    if clips:
        never = [name for name in there if name in chart.shapes and name not in keyed]
        if never:
            some = ", ".join(map(repr, never[:6])) + (" …" if len(never) > 6 else "")
            found.append(
                Finding("never-keyed", "note", figure.name, f"no clip drives {some} ({len(never)} of {len(there)})")
            )
    return found


@dataclass(frozen=True)
class ShapeMatch:
    """A shape with what it is made of on another head, weighed, and how much of it is lost, 0 to 1."""

    shape: str
    made_of: dict[str, float]
    lost: float


@dataclass(frozen=True)
class RegionCoverage:
    """How far a chart covers a region of the face: ``full``, ``in part`` or ``none``; what is missing, of how many."""

    region: str
    verdict: str
    missing: tuple[str, ...]
    of: int


def match_charts(source: FaceChart, target: FaceChart) -> list[ShapeMatch]:
    """For each shape of the source: which shapes of the target make it, and how much of it (0 to 1) is lost."""
    goals = source.matrix
    shares = bounded_weights(target.matrix, goals, np.ones(len(target.columns)))
    norm = np.linalg.norm(goals, axis=0)
    lost = np.linalg.norm(goals - target.matrix @ shares, axis=0) / np.where(norm > 0.0, norm, 1.0)
    rows = []
    for column, (name, sign) in enumerate(source.columns):
        if norm[column] == 0.0:
            continue
        used = [
            (i, float(shares[i, column])) for i in np.argsort(-shares[:, column]).tolist() if shares[i, column] > 0.02
        ]
        made_of = {target.columns[i][0]: round(weight * target.columns[i][1], 3) for i, weight in used}
        title = name if sign > 0 else f"{name} (negative)"
        rows.append(ShapeMatch(title, made_of, round(float(lost[column]), 3)))
    return rows


def region_coverage(chart: FaceChart) -> list[RegionCoverage]:
    """Region by region, what a chart covers."""
    rows = []
    for region, units in coverage(chart).items():
        missing = tuple(name for name, fraction in units.items() if fraction < 0.4)
        rows.append(RegionCoverage(region, verdict_of(units), missing, len(units)))
    return rows


def _nearest(name: str, known: Sequence[str]) -> str:
    near = difflib.get_close_matches(name, known, 2, 0.55)
    return f"Near names: {', '.join(map(repr, near))}" if near else ""
