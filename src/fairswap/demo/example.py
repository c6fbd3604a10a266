"""The full example: three figures, six acts, every act carried over to the others, compared, drawn, summed up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import numpy as np

import fairswap
from fairswap.body.carried import Carried
from fairswap.body.compare import Comparison, compare_subjects
from fairswap.bones.known import roles_of
from fairswap.clip import Clip
from fairswap.demo.acts import Act, lamp_place, perform
from fairswap.demo.anatomy import BODIES, body_of
from fairswap.demo.gallery import stages_gallery
from fairswap.demo.repertoire import ACTS
from fairswap.demo.spoken import RATE as SPOKEN_RATE
from fairswap.demo.spoken import line_as_table, spoken_line
from fairswap.face.carry import CarriedFace, FaceSide, FaceSwap, perform_units, still_clip
from fairswap.face.landmarks import landmark_moves
from fairswap.figure import Figure
from fairswap.figures.props import with_object, with_object_of
from fairswap.formats.storage import write_atomically
from fairswap.picture.face_sheet import reel_sheet
from fairswap.picture.sheet import Actor, save_sheet
from fairswap.platform.check import RuleResult, check
from fairswap.platform.fit import Fitted, fit_figure
from fairswap.platform.outcome import write_fitted
from fairswap.platform.rules import platform_named
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
STAGES = ("quillmoor", "saltglass", "fernway")


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


@dataclass(frozen=True, eq=False)
class Staged:
    """A figure with all acts brought to a stage: the files, what was changed and proven, and what does not fit."""

    figure: str
    stage: str
    files: tuple[str, ...]
    fitted: Fitted
    left: list[RuleResult]


@dataclass(frozen=True, eq=False)
class Spoken:
    """The spoken line carried from one face to another: how far its landmarks are off the line performed directly.

    In head sizes, over all frames and landmarks.
    """

    motion: str
    figure: str
    result: str
    picture: str
    face: CarriedFace
    off_mean: float
    off_worst: float


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


def head_of(figure: Figure, name: str) -> FaceSide:
    """The face of a member of the troupe, its chart drafted."""
    return FaceSide(figure, roles_of(figure, what=name, option="--target-bones"))


def speak(head: FaceSide) -> Clip:
    """The spoken line performed directly by a head."""
    units, _ = spoken_line()
    still = still_clip(head.figure, "spoken line", SPOKEN_RATE, units.shape[1])
    return perform_units(head, units, still).clip


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


def run_faces(
    folder: Path, force: bool = False, speaker: str = "Juniper", step: Callable[[str], None] = lambda _: None
) -> list[Spoken]:
    """Write the spoken line, as a table of phones and as the speaker's clip, and carry it over to the other faces."""
    write_atomically(folder / "spoken-line.csv", [line_as_table().encode()], force)
    heads = {name: head_of(fairswap.load(folder / f"{name.lower()}.glb").figure, name) for name in BODIES}
    lines = {name: speak(head) for name, head in heads.items()}
    motion = folder / f"{speaker.lower()}-spoken-line.glb"
    fairswap.save(motion, heads[speaker].figure, [lines[speaker]], force=force)
    frames = [0, 24, 40, 58, 78, 100, 130, 156, 176, 206, 228, 250, 262, 274, 286, 296]
    done = []
    for name, head in heads.items():
        if name == speaker:
            continue
        still = still_clip(head.figure, "spoken line", SPOKEN_RATE, lines[speaker].frames)
        face = FaceSwap(heads[speaker], head).carry(lines[speaker], still)
        result = folder / f"{name.lower()}-spoken-line.glb"
        fairswap.save(result, head.figure, [face.clip], force=force)
        off = np.linalg.norm(landmark_moves(head, face.clip)[1] - landmark_moves(head, lines[name])[1], axis=1)
        picture = result.with_suffix(".png")
        rows = [(f"{number / float(SPOKEN_RATE):.2f} s", number) for number in frames]
        seen = head.drafted.frame
        title = f"{motion.name} on {name}"
        write_atomically(picture, [reel_sheet(head, face.clip, rows, seen, title)], force)
        mean, worst = float(off.mean()), float(off.max())
        done.append(Spoken(motion.name, f"{name.lower()}.glb", result.name, picture.name, face, mean, worst))
        step(result.name)
    return done


def run_stages(folder: Path, force: bool = False, step: Callable[[str], None] = lambda _: None) -> list[Staged]:
    """Bring every figure with all acts to every stage, and check what was written as the stage would."""
    done = []
    for stage in STAGES:
        platform = platform_named(stage)
        for name in BODIES:
            figure = troupe_figure(name)
            clips = [perform_on(act_named(title), name, figure) for title in ACTS]
            fitted = fit_figure(figure, clips, platform)
            place = folder / "stages" / stage / name.lower()
            written = [Path(path) for path in write_fitted(fitted, platform, place, force=force)]
            left = [row for path in written for row in check(fairswap.load(path), platform) if not row.ok]
            done.append(Staged(name, stage, tuple(path.name for path in written), fitted, left))
            step(f"{name} on {stage}")
    gallery = stages_gallery(folder / "stages", STAGES, tuple(BODIES))
    write_atomically(folder / "stages" / "gallery.png", [gallery], force)
    return done


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
