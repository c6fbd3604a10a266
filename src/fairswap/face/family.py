"""Charts kept for a family of heads: found by themselves on a head that has their shapes."""

from __future__ import annotations

from fairswap.errors import Finding, InputError
from fairswap.face.chart import FaceChart
from fairswap.formats.saved import saved_files
from fairswap.model.figure import Figure

# A head is of a family if its chart knows so many of the head's shapes, and the head has so many of the chart's.
_KNOWN, _THERE = 0.8, 0.5


def family_chart(figure: Figure) -> FaceChart | None:
    """The saved chart that fits a figure best, with the names that its shapes have there, and only those that it has;
    None if none fits."""
    rated = [(share, chart) for chart in _saved() if (share := _share(chart, figure)) > 0.0]
    if not rated:
        return None
    best = max(rated, key=lambda row: row[0])[1]
    return on_figure(best, figure).only(_shapes_of(best, figure))


def on_figure(chart: FaceChart, figure: Figure) -> FaceChart:
    """A chart with the names that its shapes have in a figure."""
    return chart.renamed({bare: name for name in _morphs(figure) if (bare := chart.bare(name)) != name})


def broken_charts() -> list[Finding]:
    """The saved charts that cannot be read, and why."""
    return [
        Finding("chart-broken", "warning", str(row.file), f"this saved face chart is left out: {row.problem}")
        for row in saved_files("faces", FaceChart.load)
        if isinstance(row, InputError)
    ]


def _saved() -> list[FaceChart]:
    return [row for row in saved_files("faces", FaceChart.load) if isinstance(row, FaceChart)]


def _share(chart: FaceChart, figure: Figure) -> float:
    """How well a chart fits, 0 for not at all: the part of the head's shapes that it knows, times its own that are
    there."""
    morphs, there = _morphs(figure), _shapes_of(chart, figure)
    known = len([name for name in morphs if name in there]) / len(morphs) if morphs else 1.0
    own = len(there) / max(len(chart.shapes), 1)
    return known * own if known >= _KNOWN and own >= _THERE else 0.0


def _shapes_of(chart: FaceChart, figure: Figure) -> set[str]:
    """Which shapes of a chart, under the names they have there, a figure has."""
    morphs, bones = set(_morphs(figure)), set(figure.skeleton.names)
    shapes = on_figure(chart, figure).shapes
    return {name for name, shape in shapes.items() if (set(shape.bones) <= bones if shape.bones else name in morphs)}


def _morphs(figure: Figure) -> list[str]:
    return list(dict.fromkeys(name for mesh in figure.meshes for name in mesh.morph_names))
