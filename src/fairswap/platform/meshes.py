"""No more triangles, vertices and materials than are allowed."""

from __future__ import annotations

from fairswap.errors import Finding
from fairswap.figures.atlas import atlased, number_of_materials
from fairswap.figures.reducing import Reduced, reduced
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.platform.changes import Change
from fairswap.platform.rules import FigureRules


def lighter(
    figure: Figure, rules: FigureRules, clip: Clip | None, triangles: int | None = None
) -> tuple[Figure, list[Change], Reduced | None]:
    """The figure with no more triangles and vertices than the rules allow, and than ``triangles``; what that cost; how
    it was done, or None where nothing was.

    What is lost is measured in ``clip``, or at rest.
    """
    before = sum(len(mesh.triangles) for mesh in figure.meshes)
    limits = [limit for limit in (rules.max_triangles, triangles) if limit is not None]
    wanted = min([*limits, before])
    vertices = _vertices(figure)
    most = rules.max_vertices if rules.max_vertices is not None else vertices
    if wanted >= before and vertices <= most:
        return figure, [], None
    made = reduced(figure, wanted, clip, most)
    rule = "figure.max_triangles" if limits and before > min(limits) else "figure.max_vertices"
    fewer = f"{before} triangles to {made.triangles}, " if made.triangles < before else ""
    what = f"{fewer}{vertices} vertices to {_vertices(made.figure)}"
    where = "at rest" if clip is None else f"in {clip.name!r}"
    cost = f"{made.mean_mm:.2f} mm mean, {made.worst_mm:.1f} worst {where}"
    return made.figure, [Change(rule, what, cost, made.mean_mm)], made


def with_fewer_materials(
    figure: Figure, rules: FigureRules, always: bool
) -> tuple[Figure, list[Change], list[Finding]]:
    """The figure with its materials in one atlas, if it has more than the rules allow, or ``always``."""
    if not always and (rules.max_materials is None or number_of_materials(figure) <= rules.max_materials):
        return figure, [], []
    made = atlased(figure, rules.max_texture_px)
    if made.after == made.before:
        return figure, [], list(made.findings)
    wide, high = made.size_px
    what = f"{made.before} materials to {made.after}, in an atlas of {wide} × {high}"
    cost = "" if made.scale == 1.0 else f"pictures at {100 * made.scale:.0f} % of their size"
    return made.figure, [Change("figure.max_materials", what, cost, 1.0 - made.scale)], list(made.findings)


def _vertices(figure: Figure) -> int:
    return sum(len(mesh.vertices) for mesh in figure.meshes)
