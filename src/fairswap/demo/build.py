"""Sculpt the troupe and store it under ``data/troupe``: ``python -m fairswap.demo.build`` (``make troupe``)."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import fairswap
from fairswap.demo.anatomy import body_of
from fairswap.demo.faces import face_of, recessed
from fairswap.demo.garments import garments_of
from fairswap.demo.paint import paint_of, palette_of
from fairswap.demo.sculpt import sculpt
from fairswap.demo.wardrobe import flatten_soles, shapes_of
from fairswap.model.figure import Figure
from fairswap.model.space import Space

FOLDER = Path(fairswap.__file__).parent / "data" / "troupe"
_TRIANGLES = {"Juniper": 17000, "Osric": 15000, "Pip": 11000}
SPACES = {"quillmoor": Space(), "saltglass": Space("+Z", "-Y", "in"), "fernway": Space()}


def main() -> None:
    """Sculpt those named on the command line, or all."""
    for name in sys.argv[1:] or _TRIANGLES:
        body = body_of(name)
        shapes = shapes_of(body)
        mesh = sculpt(body, shapes, paint_of(body, shapes), _TRIANGLES[name])
        mesh = replace(mesh, vertices=recessed(flatten_soles(mesh.vertices), body))
        face = face_of(body, shapes, palette_of(body), mesh.bind_matrices)
        figure = Figure(name, body.skeleton(body.rest_turns()), (mesh, face))
        path = FOLDER / f"{name.lower()}.glb"
        fairswap.save(path, figure, space=SPACES[body.measures.stage], force=True)
        sys.stderr.write(f"{path}: {len(mesh.vertices)} vertices, {len(mesh.triangles)} triangles\n")
    dress_maker()


def dress_maker() -> None:
    """The garments that are cut for one of them."""
    body = body_of("Osric")
    figure = fairswap.load(FOLDER / "osric.glb").figure
    for name, garment in garments_of(body, figure):
        fairswap.save(FOLDER / f"osric-{name}.glb", garment, space=SPACES[body.measures.stage], force=True)


if __name__ == "__main__":
    main()
