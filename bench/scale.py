"""Large inputs, each through the command line in a process of its own: seconds and peak memory, against what we want.

``make scale``; it takes a few minutes and 1 GB of disk. Times are those of the machine it runs on.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

import fairswap

TROUPE = Path(fairswap.demo_file("pip.glb")).parent
# What is done, with how many seconds and MiB we want at most.
WANTED = {
    "100,000 frames of text, converted": (30.0, 400.0),
    "500 clips, converted": (60.0, 800.0),
    "5,000 bones, fitted": (15.0, 2000.0),
    "1,000,000 vertices, fitted": (30.0, 3000.0),
    "100,000 joints, inspected": (5.0, 400.0),
}


def long_text() -> list[str]:
    walk = fairswap.demo_motion("walk", by="Osric")
    clip = walk.clips[0]
    at = np.arange(100_000) % clip.frames
    tracks = [
        np.ascontiguousarray(part[..., at]) for part in (clip.poses.rotation_tracks, clip.poses.translation_tracks)
    ]
    poses = replace(clip.poses, rotation_tracks=tracks[0], translation_tracks=tracks[1])
    fairswap.save("long.bvh", walk.figure, [clip.with_poses(poses)])
    return ["convert", "long.bvh", "--onto", str(TROUPE / "pip.glb"), "-o", "long.glb"]


def many_clips() -> list[str]:
    walk = fairswap.demo_motion("walk", by="Osric")
    fairswap.save("many.glb", walk.figure, [replace(walk.clips[0], name=f"walk {n}") for n in range(500)])
    return ["convert", "many.glb", "--onto", str(TROUPE / "pip.glb"), "-o", "many-converted.glb"]


def many_bones() -> list[str]:
    figure = fairswap.load(TROUPE / "juniper.glb").figure
    old = figure.skeleton
    more = 5000 - len(old)
    # Strands of fifty bones that hang on a bone of the trunk.
    parents = [10 if n % 50 == 0 else len(old) + n - 1 for n in range(more)]
    skeleton = replace(
        old,
        names=(*old.names, *(f"strand {n}" for n in range(more))),
        parents=np.r_[old.parents, parents],
        rest_rotations=np.r_[old.rest_rotations, np.tile([0.0, 0.0, 0.0, 1.0], (more, 1))],
        rest_translations=np.r_[old.rest_translations, np.tile([0.0, 0.01, 0.0], (more, 1))],
        ends=frozenset(),
    )
    binds = np.tile(np.eye(4), (more, 1, 1))
    meshes = tuple(replace(mesh, bind_matrices=np.r_[mesh.bind_matrices, binds], origin=None) for mesh in figure.meshes)
    fairswap.save("bones.glb", replace(figure, skeleton=skeleton, meshes=meshes, source=None))
    return ["fit", "bones.glb", "--platform", "quillmoor", "-o", "bones-fitted.glb"]


def many_vertices() -> list[str]:
    figure = fairswap.load(TROUPE / "juniper.glb").figure
    times = -(-1_000_000 // sum(len(mesh.vertices) for mesh in figure.meshes))
    meshes = []
    for mesh in figure.meshes:
        count = len(mesh.vertices)
        again = {
            name: np.concatenate([getattr(mesh, name)] * times)
            for name in ("vertices", "normals", "joints", "weights", "uvs", "tangents")
            if getattr(mesh, name) is not None
        }
        faces = np.concatenate([mesh.triangles + count * n for n in range(times)])
        plain = replace(mesh.materials[0], triangles=slice(0, len(faces)), origin=None)
        bare = {"morph_names": (), "morph_deltas": None, "morph_weights": None, "morph_normals": None}
        meshes.append(replace(mesh, **again, **bare, triangles=faces, materials=(plain,), more={}, origin=None))
    fairswap.save("vertices.glb", replace(figure, meshes=tuple(meshes), source=None))
    return ["fit", "vertices.glb", "--platform", "quillmoor", "-o", "vertices-fitted.glb"]


def many_joints() -> list[str]:
    joints = "".join(f"JOINT j{n}\n{{\nOFFSET 0 1 0\n}}\n" for n in range(100_000))
    head = "HIERARCHY\nROOT r\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\n"
    Path("joints.bvh").write_text(f"{head}{joints}}}\nMOTION\nFrames: 2\nFrame Time: 0.0333333\n0 0 0\n0 0 0\n")
    return ["inspect", "joints.bvh"]


MAKERS = dict(zip(WANTED, (long_text, many_clips, many_bones, many_vertices, many_joints), strict=True))


def measured(words: list[str]) -> tuple[float, float]:
    """Seconds and peak MiB of one command."""
    start = time.perf_counter()
    process = subprocess.Popen([sys.executable, "-m", "fairswap", *words], stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        raise SystemExit(f"fairswap {' '.join(words)} failed")
    return time.perf_counter() - start, used.ru_maxrss / 1024.0


def main() -> None:
    chosen = sys.argv[1:]
    print(f"{'':38}{'seconds':>9}{'wanted':>9}{'MiB':>9}{'wanted':>9}")
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        for title, make in MAKERS.items():
            if chosen and not any(word in title for word in chosen):
                continue
            # Made in a process of its own, too: a child begins with what its parent holds.
            child = os.fork()
            if child == 0:
                Path("words").write_text("\n".join(make()))
                os._exit(0)
            os.waitpid(child, 0)
            seconds, mib = measured(Path("words").read_text().split("\n"))
            wanted = WANTED[title]
            missed = "  missed" if seconds > wanted[0] or mib > wanted[1] else ""
            print(f"{title:38}{seconds:9.1f}{wanted[0]:9.0f}{mib:9.0f}{wanted[1]:9.0f}{missed}", flush=True)
        os.chdir("/")


if __name__ == "__main__":
    main()
