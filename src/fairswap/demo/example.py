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
from fairswap.demo.gallery import stages_gallery
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
    """A figure with all acts brought to a stage: the files, what was changed and proven, and what does not fit."""

    figure: str
    stage: str
    files: tuple[str, ...]
    fitted: Fitted
    left: tuple[RuleResult, ...]


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


def run_faces(
    folder: Path, outputs: Outputs, pictures: Pictures, speaker: str = "Juniper", step: Step = lambda _: None
) -> list[Spoken]:
    """Write the spoken line, as a table of phones and as the speaker's clip, and carry it over to the other faces."""
    outputs.write(folder / "spoken-line.csv", [line_as_table().encode()])
    heads = {name: Head.of(folder / f"{name.lower()}.glb") for name in BODIES}
    lines = {name: speak(head) for name, head in heads.items()}
    motion = folder / f"{speaker.lower()}-spoken-line.glb"
    fairswap.save(motion, heads[speaker].figure, [lines[speaker]], force=outputs.force)
    done = []
    for name, head in heads.items():
        if name == speaker:
            continue
        still = still_clip(head.figure, "spoken line", SPOKEN_RATE, lines[speaker].frames)
        face = FaceSwap(heads[speaker], head).transfer(lines[speaker], still)
        result = folder / f"{name.lower()}-spoken-line.glb"
        fairswap.save(result, head.figure, [face.clip], force=outputs.force)
        off = np.linalg.norm(landmark_moves(head, face.clip)[1] - landmark_moves(head, lines[name])[1], axis=1)
        rows = [(f"{number / float(SPOKEN_RATE):.2f} s", number) for number in _SPOKEN_FRAMES]
        draw = partial(reel_sheet, head, face.clip, rows, head.drafted.frame, f"{motion.name} on {name}")
        picture = pictures.write(result.with_suffix(".png"), draw)
        names = motion.name, f"{name.lower()}.glb", result.name, picture
        done.append(Spoken(*names, face, float(off.mean()), float(off.max())))
        step(result.name)
    return done


def run_call(folder: Path, outputs: Outputs, pictures: Pictures, step: Step = lambda _: None) -> list[Called]:
    """A text spoken by all three, from its words alone: written as a text file, and as a clip and a picture of each."""
    text = folder / "call.txt"
    outputs.write(text, [f"{CALL}\n".encode()])
    done = []
    for name in BODIES:
        speech = fairswap.face.SpeechOptions(blinks=True, nods=True)
        made = fairswap.face.apply(text, folder / f"{name.lower()}.glb", speech=speech)
        result = folder / f"{name.lower()}-call.glb"
        made.save(result, force=outputs.force)
        draw = partial(fairswap.picture.moments, made.head, made.clips[0], f"{name} says: {CALL}")
        picture = pictures.write(result.with_suffix(".png"), draw)
        done.append(Called(text.name, f"{name.lower()}.glb", result.name, picture, made))
        step(result.name)
    return done


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


def run_stages(folder: Path, outputs: Outputs, pictures: Pictures, step: Step = lambda _: None) -> list[Staged]:
    """Bring every figure with all acts to every stage, and check what was written as the stage would."""
    done = []
    for stage in STAGES:
        platform = fairswap.platform.named(stage)
        for name in BODIES:
            figure = troupe_figure(name)
            clips = [perform_on(act_named(title), name, figure) for title in ACTS]
            fitted = fit_figure(figure, clips, platform)
            written = fitted.save(folder / "stages" / stage / name.lower(), force=outputs.force)
            left = tuple(row for check in check_written(written, platform) for row in check.broken)
            done.append(Staged(name, stage, tuple(Path(path).name for path in written), fitted, left))
            step(f"{name} on {stage}")
    gallery = partial(stages_gallery, folder / "stages", STAGES, tuple(BODIES))
    pictures.write(folder / "stages" / "gallery.png", gallery)
    return done


def run_example(folder: Path, outputs: Outputs, pictures: Pictures, step: Step = lambda _: None) -> list[Shown]:
    """Write the troupe into ``folder``, carry each act over to the other figures, and prove it."""
    figures, motions = write_troupe(folder, outputs)
    targets = {name: fairswap.load(path) for name, path in figures.items()}
    done = []
    for title, (performer, _) in PROGRAMME.items():
        for name, target in targets.items():
            if name != performer:
                done.append(_shown(title, name, motions[title], target, folder, outputs, pictures))
                step(done[-1].result)
    return done


def _shown(
    title: str, name: str, motion: Path, target: fairswap.Document, folder: Path, outputs: Outputs, pictures: Pictures
) -> Shown:
    """One act on one figure: converted, written, read again, and compared with its source."""
    thing = OBJECT if title == "lamp" else None
    source = fairswap.load(motion)
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
