"""The full example: three figures, six acts, every act carried over to the others, compared, drawn, summed up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import fairswap
from fairswap.body.carried import Carried
from fairswap.body.compare import Comparison, compare_subjects
from fairswap.clip import Clip
from fairswap.demo.acts import Act, lamp_place, perform
from fairswap.demo.anatomy import BODIES, body_of
from fairswap.demo.repertoire import ACTS
from fairswap.figure import Figure
from fairswap.figures.props import with_object, with_object_of
from fairswap.formats.storage import write_atomically
from fairswap.picture.sheet import Actor, save_sheet
from fairswap.space import Space

_TROUPE = Path(fairswap.__file__).parent / "data" / "troupe"
SALTGLASS = Space("+Z", "-Y", "in")
# Who performs which act, and in which kind of file it is delivered.
PROGRAMME = {
    "walk": ("Osric", ".bvh"),
    "turn-and-bow": ("Juniper", ".glb"),
    "lamp": ("Osric", ".glb"),
    "clap": ("Juniper", ".bvh"),
    "leap": ("Pip", ".glb"),
    "idle": ("Pip", ".bvh"),
}
OBJECT = "street lamp"


@dataclass(frozen=True, eq=False)
class Shown:
    """One conversion of the example.

    ``proof`` holds the result against its source; ``plain`` does so before feet and hands were finished; ``truth``
    holds that against the act performed directly by the target.
    """

    act: str
    motion: str
    figure: str
    result: str
    sheet: str
    carried: Carried
    proof: Comparison
    plain: Comparison
    truth: Comparison


def troupe_figure(name: str) -> Figure:
    """A member of the troupe, as shipped: ``"Juniper"``, ``"Osric"`` or ``"Pip"``."""
    return fairswap.load(_TROUPE / f"{name.lower()}.glb").figure


def perform_on(act: Act, name: str, figure: Figure) -> Clip:
    """The act performed directly by a member of the troupe."""
    return perform(act, body_of(name), figure.skeleton)


@cache
def act_named(name: str) -> Act:
    """An act of the repertoire."""
    return ACTS[name]()


def write_troupe(folder: Path, force: bool = False) -> tuple[dict[str, Path], dict[str, Path]]:
    """Write the figures by name, and the acts by name as files of their stages."""
    figures, motions = {}, {}
    for name in BODIES:
        figures[name] = folder / f"{name.lower()}.glb"
        write_atomically(figures[name], [(_TROUPE / f"{name.lower()}.glb").read_bytes()], force)
    for title, (performer, suffix) in PROGRAMME.items():
        act, figure = act_named(title), troupe_figure(performer)
        clip = perform_on(act, performer, figure)
        motions[title] = folder / f"{performer.lower()}-{title}{suffix}"
        space = SALTGLASS if performer == "Osric" else None
        thing = lamp_place(act, body_of(performer))
        if thing is not None:
            figure, clip = with_object(figure, clip, OBJECT, thing)
            fairswap.save(motions[title], figure, [clip], force=force)
        elif suffix == ".bvh":
            fairswap.save(motions[title], replace(figure, source=None), [clip], space=space, force=force)
        else:
            fairswap.save(motions[title], figure, [clip], force=force)
    return figures, motions


def run_example(folder: Path, force: bool = False, step: Callable[[str], None] = lambda _: None) -> list[Shown]:
    """Write the troupe into ``folder``, carry each act over to the other figures, and prove it."""
    figures, motions = write_troupe(folder, force)
    targets = {name: fairswap.load(path).figure for name, path in figures.items()}
    done = []
    for title, (performer, _) in PROGRAMME.items():
        motion = fairswap.load(motions[title])
        performing, clip = motion.figure, motion.clips_of(motion.figure)[0]
        thing = OBJECT if title == "lamp" else None
        if thing is not None:
            performing, clip = with_object_of(motion, performing, clip, thing)
        for name, figure in targets.items():
            if name == performer:
                continue
            swap = fairswap.Swap(performing, figure, motion=clip)
            finish = fairswap.Finish(object=thing)
            plain_clip = swap.carry_plain(clip, finish)
            plain = compare_subjects(swap.source_side, clip, swap.target_side, plain_clip)
            direct = perform_on(act_named(title), name, figure)
            truth = compare_subjects(swap.target_side, direct, swap.target_side, plain_clip)
            carried = swap.finish(clip, plain_clip, finish)
            result_file = folder / f"{name.lower()}-{title}.glb"
            fairswap.save(result_file, figure, [carried.clip], force=force)
            # Check what was written, not what was meant.
            result = fairswap.load(result_file)
            proof = fairswap.compare(performing, clip, result.figure, result.clips[0])
            sheet = result_file.with_suffix(".png")
            source = Actor(motions[title].name, performing, clip, swap.source_side.roles)
            target = Actor(result_file.name, figure, carried.clip, swap.target_side.roles)
            save_sheet(sheet, source, target, proof, force=force)
            done.append(
                Shown(
                    title,
                    motions[title].name,
                    figures[name].name,
                    result_file.name,
                    sheet.name,
                    carried,
                    proof,
                    plain,
                    truth,
                )
            )
            step(result_file.name)
    return done
