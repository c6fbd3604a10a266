"""The full example: three figures, six acts, every act carried over to the others, compared, drawn, summed up.

Beside its own bodies and acts it uses nothing but the front door of the library, as any user would.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache, partial
from pathlib import Path

import numpy as np

import fairswap
from fairswap.demo.acts import Act, lamp_place, perform
from fairswap.demo.anatomy import BODIES, body_of
from fairswap.demo.gallery import Cell, stage_cell, stages_gallery
from fairswap.demo.repertoire import ACTS
from fairswap.demo.shipped import demo_file
from fairswap.demo.spoken import CALL, line_as_table, speak
from fairswap.demo.spoken import RATE as SPOKEN_RATE
from fairswap.face.head import Head
from fairswap.face.landmarks import landmark_moves
from fairswap.face.transfer import FaceSwap, TransferredFace, still_clip
from fairswap.figures.props import with_object, with_object_of
from fairswap.formats.outputs import Outputs
from fairswap.measure.comparison import compare_motions
from fairswap.picture.face_sheet import reel_sheet
from fairswap.picture.page.scene import Shown as ShownOnPage
from fairswap.plans.pool import each_beside
from fairswap.platform.checking import RuleResult
from fairswap.platform.fitting import fit_figure
from fairswap.platform.preparing import Fitted
from fairswap.platform.writing import check_written
from fairswap.retarget.pipeline import Retargeted

SALTGLASS = fairswap.Space("+Z", "-Y", "in")
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
_SPOKEN_FRAMES = [0, 24, 40, 58, 78, 100, 130, 156, 176, 206, 228, 250, 262, 274, 286, 296]
SPEAKER = "Juniper"
Step = Callable[[str], None]


@dataclass(frozen=True)
class Pictures:
    """The pictures of the example, which take most of its time: written, or left out."""

    outputs: Outputs
    wanted: bool = True

    def write(self, path: Path, draw: Callable[[], bytes]) -> str:
        """Draw one and write it; give its name, or nothing."""
        if not self.wanted:
            return ""
        self.outputs.write(path, [draw()])
        return path.name


@dataclass(frozen=True, eq=False)
class Shown:
    """One conversion of the example.

    ``proof`` holds the result against its source; ``as_transferred`` does so before feet and hands were treated;
    ``truth`` holds that against the act performed directly by the target.
    """

    act: str
    motion: str
    figure: str
    result: str
    sheet: str
    retargeted: Retargeted
    proof: fairswap.Comparison
    as_transferred: fairswap.Comparison
    truth: fairswap.Comparison


@dataclass(frozen=True, eq=False)
class Staged:
    """A figure with all acts brought to a stage: the files, what was changed and proven, and what does not fit; and its
    cell of the gallery, if pictures are wanted."""

    figure: str
    stage: str
    files: tuple[str, ...]
    fitted: Fitted
    left: tuple[RuleResult, ...]
    cell: Cell | None


@dataclass(frozen=True, eq=False)
class Spoken:
    """The spoken line carried from one face to another: how far its landmarks are off the line performed directly.

    In head sizes, over all frames and landmarks.
    """

    motion: str
    figure: str
    result: str
    picture: str
    face: TransferredFace
    off_mean: float
    off_worst: float


@dataclass(frozen=True, eq=False)
class Called:
    """A text spoken by a figure."""

    text: str
    figure: str
    result: str
    picture: str
    made: fairswap.face.AppliedFace


@dataclass(frozen=True, eq=False)
class Example:
    """All that the example made; ``page`` is None without the package that draws it."""

    conversions: tuple[Shown, ...]
    faces: tuple[Spoken, ...]
    calls: tuple[Called, ...]
    stages: tuple[Staged, ...]
    page: Path | None


Piece = Shown | Spoken | Called | Staged


def troupe_figure(name: str) -> fairswap.Figure:
    """A member of the troupe, as shipped: ``"Juniper"``, ``"Osric"`` or ``"Pip"``."""
    return fairswap.load(demo_file(f"{name.lower()}.glb")).figure


def perform_on(act: Act, name: str, figure: fairswap.Figure) -> fairswap.Clip:
    """The act performed directly by a member of the troupe."""
    return perform(act, body_of(name), figure.skeleton)


@cache
def act_named(name: str) -> Act:
    """An act of the repertoire."""
    return ACTS[name]()


def write_troupe(folder: Path, outputs: Outputs) -> tuple[dict[str, Path], dict[str, Path]]:
    """Write the figures by name, and the acts by name as files of their stages."""
    figures, motions = {}, {}
    for name in BODIES:
        figures[name] = folder / f"{name.lower()}.glb"
        outputs.write(figures[name], [demo_file(f"{name.lower()}.glb").read_bytes()])
    for garment in ("coat", "boots"):
        outputs.write(folder / f"osric-{garment}.glb", [demo_file(f"osric-{garment}.glb").read_bytes()])
    for title, (performer, suffix) in PROGRAMME.items():
        act, figure = act_named(title), troupe_figure(performer)
        clip = perform_on(act, performer, figure)
        motions[title] = folder / f"{performer.lower()}-{title}{suffix}"
        space = SALTGLASS if performer == "Osric" else None
        thing = lamp_place(act, body_of(performer))
        if thing is not None:
            figure, clip = with_object(figure, clip, OBJECT, thing)
            fairswap.save(motions[title], figure, [clip], force=outputs.force)
        elif suffix == ".bvh":
            bare = replace(figure, source=None)
            fairswap.save(motions[title], bare, [clip], space=space, force=outputs.force)
        else:
            fairswap.save(motions[title], figure, [clip], force=outputs.force)
    return figures, motions


def write_line(folder: Path, outputs: Outputs) -> Path:
    """Write the spoken line, as a table of phones, as the speaker's clip, and a text to be called; give the clip."""
    outputs.write(folder / "spoken-line.csv", [line_as_table().encode()])
    outputs.write(folder / "call.txt", [f"{CALL}\n".encode()])
    head = Head.of(folder / f"{SPEAKER.lower()}.glb")
    motion = folder / f"{SPEAKER.lower()}-spoken-line.glb"
    fairswap.save(motion, head.figure, [speak(head)], force=outputs.force)
    return motion


def _spoken(name: str, motion: Path, folder: Path, outputs: Outputs, pictures: Pictures) -> Spoken:
    """The spoken line carried over to another face."""
    speaker, head = (Head.of(folder / f"{one.lower()}.glb") for one in (SPEAKER, name))
    line, own = speak(speaker), speak(head)
    still = still_clip(head.figure, "spoken line", SPOKEN_RATE, line.frames)
    face = FaceSwap(speaker, head).transfer(line, still)
    result = folder / f"{name.lower()}-spoken-line.glb"
    fairswap.save(result, head.figure, [face.clip], force=outputs.force)
    off = np.linalg.norm(landmark_moves(head, face.clip)[1] - landmark_moves(head, own)[1], axis=1)
    rows = [(f"{number / float(SPOKEN_RATE):.2f} s", number) for number in _SPOKEN_FRAMES]
    draw = partial(reel_sheet, head, face.clip, rows, head.drafted.frame, f"{motion.name} on {name}")
    picture = pictures.write(result.with_suffix(".png"), draw)
    names = motion.name, f"{name.lower()}.glb", result.name, picture
    return Spoken(*names, face, float(off.mean()), float(off.max()))


def _called(name: str, folder: Path, outputs: Outputs, pictures: Pictures) -> Called:
    """A text spoken by one of them, from its words alone."""
    text = folder / "call.txt"
    speech = fairswap.face.SpeechOptions(blinks=True, nods=True)
    made = fairswap.face.apply(text, folder / f"{name.lower()}.glb", speech=speech)
    result = folder / f"{name.lower()}-call.glb"
    made.save(result, force=outputs.force)
    draw = partial(fairswap.picture.moments, made.head, made.clips[0], f"{name} says: {CALL}")
    picture = pictures.write(result.with_suffix(".png"), draw)
    return Called(text.name, f"{name.lower()}.glb", result.name, picture, made)


def write_page(folder: Path, outputs: Outputs, shown: Sequence[Shown]) -> Path | None:
    """One page with the whole troupe: every act, its source and its results; None without the package that draws."""
    from fairswap.picture.page.assembling import drawing_package
    from fairswap.picture.page.viewing import of_document

    try:
        drawing_package()
    except fairswap.UsageError:
        return None
    path, rows = folder / "troupe.html", {}
    for name in BODIES:
        rows[name] = replace(of_document(fairswap.load(folder / f"{name.lower()}.glb")), title=name)
    for one in shown:
        performer, target = PROGRAMME[one.act][0], Path(one.figure).stem.capitalize()
        if one.act not in rows[performer].notes:
            clip = perform_on(act_named(one.act), performer, rows[performer].figure)
            rows[performer] = _with_clip(rows[performer], replace(clip, name=one.act), "performed")
        clip = replace(one.proof.result.clip, name=one.act)
        row = _with_clip(rows[target], clip, f"carried over from {performer}")
        rows[target] = replace(row, against={**row.against, one.act: one.proof})
    page = fairswap.view(*rows.values(), title="The Lantern Street Troupe")
    outputs.write(path, [page.html.encode()])
    return path


def _with_clip(shown: ShownOnPage, clip: fairswap.Clip, note: str) -> ShownOnPage:
    return replace(shown, clips=(*shown.clips, clip), notes={**shown.notes, clip.name: note})


def _staged(name: str, stage: str, folder: Path, outputs: Outputs, pictures: Pictures) -> Staged:
    """A figure with all acts brought to a stage, and what was written checked as the stage would."""
    platform, place = fairswap.platform.named(stage), folder / "stages" / stage / name.lower()
    fitted = fit_figure(*_performer(name), platform)
    written = fitted.save(place, force=outputs.force)
    left = tuple(row for check in check_written(written, platform) for row in check.broken)
    cell = stage_cell(place, name) if pictures.wanted else None
    return Staged(name, stage, tuple(Path(path).name for path in written), fitted, left, cell)


@cache
def _performer(name: str) -> tuple[fairswap.Figure, tuple[fairswap.Clip, ...]]:
    """A member of the troupe with all acts, performed directly."""
    figure = troupe_figure(name)
    return figure, tuple(perform_on(act_named(title), name, figure) for title in ACTS)


def run_example(folder: Path, outputs: Outputs, pictures: Pictures, step: Step = lambda _: None) -> Example:
    """Write the troupe into ``folder``, carry each act and the spoken line over to the other figures, let all of them
    call a text, bring all to every stage, and prove it.

    The pieces are played beside each other, by all cores.
    """
    figures, motions = write_troupe(folder, outputs)
    line = write_line(folder, outputs)
    pieces: dict[str, Callable[[], Piece]] = {}
    for name in BODIES:
        for stage in STAGES:
            pieces[f"{name} on {stage}"] = partial(_staged, name, stage, folder, outputs, pictures)
    for title, (performer, _) in PROGRAMME.items():
        for name in figures:
            if name != performer:
                words = title, name, motions[title], figures[name], folder, outputs, pictures
                pieces[f"{title} by {name}"] = partial(_shown, *words)
    for name in figures:
        if name != SPEAKER:
            pieces[f"spoken line by {name}"] = partial(_spoken, name, line, folder, outputs, pictures)
        pieces[f"call by {name}"] = partial(_called, name, folder, outputs, pictures)
    rows = []
    for label, row in zip(pieces, each_beside(_played, tuple(pieces.values())), strict=True):
        rows.append(row)
        step(label)
    shown = tuple(row for row in rows if isinstance(row, Shown))
    staged = tuple(row for row in rows if isinstance(row, Staged))
    page = write_page(folder, outputs, shown)
    step("troupe.html")
    cells = {stage: [row.cell for row in staged if row.stage == stage and row.cell is not None] for stage in STAGES}
    pictures.write(folder / "stages" / "gallery.png", partial(stages_gallery, cells))
    step("gallery.png")
    return Example(
        shown,
        tuple(row for row in rows if isinstance(row, Spoken)),
        tuple(row for row in rows if isinstance(row, Called)),
        tuple(sorted(staged, key=lambda row: STAGES.index(row.stage))),
        page,
    )


def _played(piece: Callable[[], Piece]) -> Piece:
    return piece()


def _shown(
    title: str, name: str, motion: Path, figure: Path, folder: Path, outputs: Outputs, pictures: Pictures
) -> Shown:
    """One act on one figure: converted, written, read again, and compared with its source."""
    thing = OBJECT if title == "lamp" else None
    source, target = fairswap.load(motion), fairswap.load(figure)
    made = fairswap.convert(source, target, motion=fairswap.MotionOptions(object=thing)).done[0]
    result_file = folder / f"{name.lower()}-{title}.glb"
    fairswap.save(result_file, target.figure, [made.clip], force=outputs.force)
    # Check what was written, not what was meant.
    result = fairswap.load(result_file)
    performing, clip = source.figure, source.clips_of(source.figure)[0]
    if thing is not None:
        performing, clip = with_object_of(source, performing, clip, thing)
    proof = fairswap.compare((performing, clip), (result.figure, result.clips[0]))
    rigged = made.swap.target
    direct = fairswap.Motion(rigged, perform_on(act_named(title), name, target.figure))
    truth = compare_motions(direct, fairswap.Motion(rigged, made.retargeted.transferred))
    headline = f"{motion.name}  onto  {result_file.name}"
    sheet = pictures.write(result_file.with_suffix(".png"), partial(fairswap.picture.sheet, proof, headline))
    names = title, motion.name, f"{name.lower()}.glb", result_file.name, sheet
    return Shown(*names, made.retargeted, proof, made.as_transferred, truth)
