"""Check what is drawn of a figure against a platform: weights, counts, pictures, morphs; clothes that cut the body."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from fairswap.figures.atlas import number_of_materials
from fairswap.figures.dressing.wearing import cutting
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.gltf.packing import SET
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.platform.rules import Platform
from fairswap.platform.textures import facts_of, pictures_of
from fairswap.pose.rigged import RiggedFigure

# A box is right if it is so near to what the skin measures; files hold places to a part of that.
_BOX_SLACK_MM = 1.0


def check_meshes(figure: Figure, platform: Platform, add: Any) -> None:
    """Weights, counts, pictures and morphs."""
    rules, name = platform.figure, figure.name
    if rules.max_influences is not None:
        most, sets = figure.max_influences, _weight_sets(figure)
        # Who reads four bones for each vertex reads the first set, though two of them may hold no more than four.
        beyond = sets > max(1, -(-rules.max_influences // SET))
        said = f"{most}, in {sets} sets of {SET}" if beyond else most
        add("figure.max_influences", name, rules.max_influences, said, most <= rules.max_influences and not beyond)
    for rule, limit, count in (
        ("max_vertices", rules.max_vertices, sum(len(mesh.vertices) for mesh in figure.meshes)),
        ("max_triangles", rules.max_triangles, sum(len(mesh.triangles) for mesh in figure.meshes)),
        ("max_materials", rules.max_materials, number_of_materials(figure)),
    ):  # fmt: skip
        if limit is not None:
            add(f"figure.{rule}", name, limit, count, count <= limit)
    if rules.bone_boxes == "stated":
        said, right = _boxes_said(figure)
        add("figure.bone_boxes", name, f"of each bone with skin, to {_BOX_SLACK_MM:g} mm", said, right)
    facts = [facts_of(picture, f"mesh {where}") for picture, where in pictures_of(figure).items()]
    if rules.textures != "any" and facts:
        beside = _textures_beside(figure)
        add(
            "figure.textures",
            name,
            rules.textures,
            "beside" if beside else "embedded",
            beside == (rules.textures == "beside"),
        )
    if rules.max_texture_px is not None and facts:
        largest = max(max(row.width, row.height) for row in facts)
        add(
            "figure.max_texture_px",
            name,
            f"{rules.max_texture_px} px",
            f"{largest} px",
            largest <= rules.max_texture_px,
        )
    if rules.texture_formats and facts:
        kinds = sorted({row.format for row in facts})
        add("figure.texture_formats", name, ", ".join(rules.texture_formats), ", ".join(kinds),
            set(kinds) <= set(rules.texture_formats))  # fmt: skip
    morphs = list(dict.fromkeys(m for mesh in figure.meshes for m in mesh.morph_names))
    if rules.morphs == "none":
        add("figure.morphs", name, "none", f"{len(morphs)}", not morphs)
    elif rules.morphs == "chart" and platform.face is not None:
        unknown = [m for m in morphs if m not in platform.face.shapes]
        said = f"{', '.join(map(repr, unknown[:4]))} not" if unknown else f"{len(morphs)} of them"
        add("figure.morphs", name, f"those of {platform.face.name}", said, not unknown)
    if rules.max_morphs is not None:
        add("figure.max_morphs", name, rules.max_morphs, len(morphs), len(morphs) <= rules.max_morphs)


def _weight_sets(figure: Figure) -> int:
    """In how many sets of weights a glTF holds those of a vertex."""
    if not isinstance(figure.source, GltfSource):
        return 1
    return max((-(-mesh.joints.shape[1] // SET) for mesh in figure.meshes), default=1)


def _boxes_said(figure: Figure) -> tuple[str, bool]:
    """What the file states of the bounds of each bone's skin, in words, and whether that is so."""
    stated, measured = figure.bone_boxes, figure.skin_boxes
    if stated is None or stated.shape != measured.shape:
        return "none stated", False
    with_skin = np.isfinite(measured[:, 0, 0])
    missing = with_skin & ~np.isfinite(stated).all(axis=(1, 2))
    if missing.any():
        names = [figure.skeleton.names[bone] for bone in np.flatnonzero(missing)]
        return f"{len(names)} missing ({', '.join(names[:3])}{' …' if len(names) > 3 else ''})", False
    off_mm = 1000.0 * np.abs(stated - measured)[with_skin].max(axis=(1, 2), initial=0.0)
    worst = float(off_mm.max(initial=0.0))
    bone = figure.skeleton.names[np.flatnonzero(with_skin)[int(np.argmax(off_mm))]] if len(off_mm) else ""
    return f"up to {worst:.1f} mm off{f' ({bone})' if worst > _BOX_SLACK_MM else ''}", worst <= _BOX_SLACK_MM


def _textures_beside(figure: Figure) -> bool:
    if not isinstance(figure.source, GltfSource):
        return False
    container = figure.source.container
    images = container.raw.get("images", [])
    # Of a file of another format the pictures were taken in when it was read.
    return bool(container.beside) or any("uri" in one and not one["uri"].startswith("data:") for one in images)


def check_cutting(rigged: RiggedFigure, clips: Sequence[Clip], platform: Platform, add: Any) -> None:
    """How deep clothes pass into the body, at rest and in each clip; looked for only where the platform asks."""
    limit = platform.figure.max_cutting_mm
    if limit is None:
        return
    for place, clip in [(rigged.figure.name, None), *((clip.name, clip) for clip in clips)]:
        pieces = cutting(rigged, clip).pieces
        worst = max(pieces, key=lambda piece: piece.worst_m, default=None)
        if worst is None:
            add("figure.max_cutting_mm", place, f"{limit:g} mm", "no clothes", True)
            return
        depth = 1000.0 * worst.worst_m
        when = "" if worst.worst_at_s is None else f", {worst.worst_at_s:.1f} s"
        said = f"{depth:.1f} mm ({worst.piece} in {worst.part}{when})" if depth else "none"
        add("figure.max_cutting_mm", place, f"{limit:g} mm", said, depth <= limit, code="clothes-cut")
