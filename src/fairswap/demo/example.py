"""The full example: two figures, two acts, carried over both ways, compared, drawn, summed up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import fairswap
from fairswap.body.compare import Comparison
from fairswap.clip import Clip
from fairswap.demo.acts import Act, perform
from fairswap.demo.anatomy import body_of
from fairswap.demo.repertoire import turn_and_bow, walk
from fairswap.figure import Figure
from fairswap.formats.storage import write_atomically
from fairswap.picture.sheet import Actor, save_sheet
from fairswap.space import Space

_TROUPE = Path(fairswap.__file__).parent / "data" / "troupe"
SALTGLASS = Space("+Z", "-Y", "in")


@dataclass(frozen=True, eq=False)
class Carried:
    """One conversion of the example. ``truth`` compares the result with the act performed directly by the target."""

    motion: str
    figure: str
    result: str
    sheet: str
    proof: Comparison
    truth: Comparison


def troupe_figure(name: str) -> Figure:
    """A member of the troupe, as shipped: ``"Juniper"`` or ``"Osric"``."""
    return fairswap.load(_TROUPE / f"{name.lower()}.glb").figure


def perform_on(act: Act, name: str, figure: Figure) -> Clip:
    """The act performed directly by a member of the troupe."""
    return perform(act, body_of(name), figure.skeleton)


def write_troupe(folder: Path, force: bool = False) -> list[Path]:
    """Write the figures, and the acts as files of their stages; give their paths: figures first, then motions."""
    paths = []
    for name in ("Juniper", "Osric"):
        content = (_TROUPE / f"{name.lower()}.glb").read_bytes()
        paths.append(folder / f"{name.lower()}.glb")
        write_atomically(paths[-1], [content], force)
    osric, juniper = troupe_figure("Osric"), troupe_figure("Juniper")
    paths += [folder / "osric-walk.bvh", folder / "juniper-turn-and-bow.glb"]
    walking = perform_on(walk(), "Osric", osric)
    fairswap.save(paths[2], replace(osric, source=None), [walking], space=SALTGLASS, force=force)
    fairswap.save(paths[3], juniper, [perform_on(turn_and_bow(), "Juniper", juniper)], force=force)
    return paths


def run_example(folder: Path, force: bool = False, step: Callable[[str], None] = lambda _: None) -> list[Carried]:
    """Write the troupe into ``folder``, carry each act over to the other figure, and prove it."""
    juniper_file, osric_file, walk_file, bow_file = write_troupe(folder, force)
    done = []
    for motion_file, figure_file, name, act in (
        (walk_file, juniper_file, "Juniper", walk()),
        (bow_file, osric_file, "Osric", turn_and_bow()),
    ):
        # These are the five lines of a conversion.
        motion, figure = fairswap.load(motion_file), fairswap.load(figure_file).figure
        swap = fairswap.Swap(motion.figure, figure, motion=motion.clips[0])
        clip = swap.convert(motion.clips[0])
        result_file = folder / f"{name.lower()}-{motion_file.stem.partition('-')[2]}.glb"
        fairswap.save(result_file, figure, [clip], force=force)
        # Check what was written, not what was meant.
        result = fairswap.load(result_file)
        proof = fairswap.compare(motion.figure, motion.clips[0], result.figure, result.clips[0])
        direct = perform_on(act, name, figure)
        truth = fairswap.compare(figure, direct, result.figure, result.clips[0])
        sheet = result_file.with_suffix(".png")
        source = Actor(motion_file.name, motion.figure, motion.clips[0], swap.source_side.roles)
        save_sheet(sheet, source, Actor(result_file.name, figure, clip, swap.target_side.roles), proof, force=force)
        done.append(Carried(motion_file.name, figure_file.name, result_file.name, sheet.name, proof, truth))
        step(result_file.name)
    return done
