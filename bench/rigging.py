"""How well joints and skin are found on bodies whose bones were taken away. ``python bench/rigging.py [COUNT]``.

Prints, for each generated body, how far its joints are off in percent of its height, from the shape alone and with four
places given; then how far the skin of the troupe is off in the reel, and how long rigging took.
"""

from __future__ import annotations

import sys
import time
from io import BytesIO

import numpy as np

import fairswap
from fairswap.demo.bodies import BareBody, bare_body
from fairswap.demo.example import troupe_figure
from fairswap.model.mesh import deformed_vertices

_FOUR = ("upper_arm_left", "upper_leg_left", "head", "hand_left")


def document_of(body: BareBody) -> fairswap.Document:
    """A body as a stranger's file has it."""
    lines, first = [], 1
    for piece in body.pieces:
        lines.append(f"o {piece.name}")
        lines += ["v {:.6g} {:.6g} {:.6g}".format(*place) for place in piece.vertices]
        lines += ["f {} {} {}".format(*(row + first)) for row in piece.triangles]
        first += len(piece.vertices)
    return fairswap.load(BytesIO("\n".join(lines).encode()), format=".obj")


def off(body: BareBody, made: fairswap.Rigged) -> float:
    """How far its joints are off on average, percent of the height."""
    rows = [np.linalg.norm(made.places[role].position - at) for role, at in body.joints.items() if role in made.places]
    return 100.0 * float(np.mean(rows)) / body.height_m


def skin_off(name: str) -> tuple[float, float]:
    """How far the skin is off in the reel when the bones were found anew: mean and worst, percent of the height."""
    figure = troupe_figure(name)
    made = fairswap.rig(figure)
    moving = fairswap.reel(figure, rate=5)
    document = fairswap.Document("reel", "", figure.space, (figure,), (moving.clip,))
    free = fairswap.MotionOptions(feet="free", hands="free")
    clip = fairswap.convert(document, made.figure, motion=free, face=fairswap.FaceOptions("none")).clips[0]
    before, after = moving.clip.poses.world(), clip.poses.world()
    rows = [
        np.linalg.norm(deformed_vertices(mesh, before, frame) - deformed_vertices(other, after, frame), axis=1)
        for frame in range(0, clip.frames, 7)
        for mesh, other in zip(figure.meshes, made.figure.meshes, strict=True)
    ]
    apart = 100.0 * np.concatenate(rows) / figure.height_m
    return float(apart.mean()), float(apart.max())


def main(count: int) -> None:
    alone, given, seconds = [], [], []
    for seed in range(count):
        body = bare_body(seed)
        document = document_of(body)
        start = time.perf_counter()
        made = fairswap.rig(document)
        seconds.append(time.perf_counter() - start)
        alone.append(off(body, made))
        given.append(off(body, fairswap.rig(document, landmarks={role: body.joints[role] for role in _FOUR})))
        kind = " ".join(str(body.kind[key]) for key in ("build", "pose", "clothes", "triangles"))
        print(f"{seed:3}  {alone[-1]:5.2f} %  {given[-1]:5.2f} %  {seconds[-1]:5.1f} s   {kind}", flush=True)
    print(f"alone {np.mean(alone):.2f} % (worst {max(alone):.2f}), four given {np.mean(given):.2f} % "
          f"(worst {max(given):.2f}), {np.mean(seconds):.1f} s (longest {max(seconds):.1f})")  # fmt: skip
    for name in ("Juniper", "Osric", "Pip"):
        mean, worst = skin_off(name)
        print(f"{name}: skin {mean:.2f} % off in the reel, {worst:.1f} % at worst")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 40)
