"""Pictures by what they show; each gives a PNG as bytes, for a file or a notebook."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path

import numpy as np

from fairswap.bones.checking import ProfileCheck, RoleListing
from fairswap.errors import ImpossibleError, UsageError
from fairswap.face.head import Head
from fairswap.figures.rigging.making import Rigged
from fairswap.formats.files import document_of
from fairswap.jobs.dressing import Dressed
from fairswap.jobs.proving import Reel
from fairswap.measure.comparison import Comparison, Motion
from fairswap.measure.contacts import contacts_of
from fairswap.measure.curves import joint_curve
from fairswap.measure.folding import Folds
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.signals import frames_across, runs_of
from fairswap.picture.bones_sheet import bones_sheet
from fairswap.picture.comparison_sheet import comparison_sheet
from fairswap.picture.curve_panels import Curve, Panel, Strip, curves_image
from fairswap.picture.cutting_sheet import cutting_sheet
from fairswap.picture.face_sheet import reel_sheet, shapes_sheet
from fairswap.picture.joints_sheet import joints_image
from fairswap.picture.lone_sheet import lone_sheet
from fairswap.picture.loss_sheet import loss_sheet
from fairswap.picture.paper import PAPER, byte
from fairswap.picture.pose_sheet import pose_sheet
from fairswap.picture.rig_sheet import rig_sheet
from fairswap.platform.preparing import Fitted
from fairswap.pose.rigged import rigged_if_known
from fairswap.pose.verbs import PoseMeasurement

_AXES = ("left", "up", "ahead")
_SOURCE, _RESULT = "#1f4f6b", "#c4631a"
_MOMENTS = 24


def sheet(
    comparison: Comparison, title: str = "", *, at: Sequence[float] = (), shots: Sequence[str] = ("full",)
) -> bytes:
    """Source above result at the same instants, front and side, with the floor line and when feet stand.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk", by="Pip")
    >>> fairswap.picture.sheet(fairswap.compare(walk, walk), at=[1.0], shots=["hands"])[1:4]
    b'PNG'

    Parameters
    ----------
    at : sequence of float
        Instants, seconds; without, those that tell the most.
    shots : sequence of str
        What of the figures: ``full``, ``face``, ``hands``, ``feet``.

    Raises
    ------
    UsageError
        If an instant is not in the clip, there are more than eight, or a shot is none.
    """
    return comparison_sheet(comparison, title, times_s=at, shots=shots)


def strip(
    what: Motion | Document | Figure | str | Path, title: str = "", *, clip: str | None = None,
    at: Sequence[float] = (), shots: Sequence[str] = ("full",),
) -> bytes:  # fmt: skip
    """A file by itself: a clip as a strip of instants, or a figure at rest; its bones need not be known.

    >>> import fairswap
    >>> fairswap.picture.strip(fairswap.demo_motion("walk", by="Pip"))[1:4]
    b'PNG'

    Raises
    ------
    UsageError
        If there is no clip of that name, an instant is not in it, or a shot is none.
    """
    if isinstance(what, Motion):
        return lone_sheet(what.rigged.figure, what.clip, what.rigged, at, shots, title)
    document = document_of(what)
    clips = [document.clip(clip)] if clip is not None else document.clips_of(document.figure)
    longest = max(clips, key=lambda row: row.duration_s, default=None)
    return lone_sheet(document.figure, longest, rigged_if_known(document, longest), at, shots, title)


def curves(what: Comparison | Sequence[Motion], roles: Sequence[str] = ()) -> bytes:
    """The curves of joints over each other, in degrees about left, up and ahead; and when feet stand.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk", by="Pip")
    >>> motion = fairswap.Motion(fairswap.RiggedFigure.of(walk), walk.clips[0])
    >>> fairswap.picture.curves([motion], ["lower_leg_left"])[1:4]
    b'PNG'

    Parameters
    ----------
    what : Comparison, or a sequence of motions
    roles : sequence of str
        Which joints; of a comparison by default the one that differs most.

    Raises
    ------
    UsageError
        If no role is given for motions, or a figure has no bone for one.
    """
    if isinstance(what, Comparison):
        worst = max(what.roles, key=lambda role: role.mean_degrees).role
        motions = [("source", what.source), ("result", what.result)]
        return curves_image(what.clip, _panels(motions, roles or (worst,)), _comparison_strips(what))
    if not roles:
        raise UsageError("say which joints to draw", remedy="Give their roles: lower_leg_left")
    motions = [(motion.clip.name, motion) for motion in what]
    title = " and ".join(name for name, _ in motions)
    return curves_image(title, _panels(motions, roles), [row for _, motion in motions for row in _strips(motion)])


def bones(what: RoleListing | ProfileCheck, title: str = "", where: str = "") -> bytes:
    """The bones of a figure, each in its state: matched, guessed, missing.

    >>> import fairswap
    >>> fairswap.picture.bones(fairswap.bones.show(fairswap.demo_file("pip.glb")))[1:4]
    b'PNG'
    """
    if isinstance(what, ProfileCheck):
        title, where = title or f"{what.profile.name} on {what.figure.name}", where or "profile against file"
    else:
        title, where = title or what.figure.name, where or f"bones {what.roles.profile}"
    return bones_sheet(what.figure, list(what.states), title, where)


def pose(measurement: PoseMeasurement, title: str = "", against_title: str = "") -> bytes:
    """Two poses beside each other, with the joints in which they differ marked, in degrees.

    >>> import fairswap
    >>> fairswap.picture.pose(fairswap.pose.measure(fairswap.demo_file("pip.glb")))[1:4]
    b'PNG'
    """
    names = title or measurement.rigged.figure.name, against_title
    return pose_sheet(measurement.rigged, measurement.against, measurement.angles, *names)


def face(head: Head, title: str = "") -> bytes:
    """Every shape of a head, each with what it is taken for, and which regions of the face are covered.

    >>> import fairswap
    >>> fairswap.picture.face(fairswap.face.Head.of(fairswap.demo_file("pip.glb")))[1:4]
    b'PNG'
    """
    captions = {}
    for name, shape in head.chart.shapes.items():
        words = " + ".join([*shape.units, *shape.total]).replace("_", " ")
        guess = None if head.given_chart is not None else head.drafted.guesses.get(name)
        doubt = f" ({guess.confidence:.2f})" if guess is not None and guess.confidence < 0.9 else ""
        captions[name] = words + doubt
    return shapes_sheet(head, head.drafted.frame, captions, title or f"{head.figure.name}: face")


def moments(head: Head, clip: Clip, title: str = "") -> bytes:
    """Moments of a face clip, evenly over its time.

    >>> import fairswap
    >>> line = fairswap.demo_motion("spoken line", by="Pip")
    >>> fairswap.picture.moments(fairswap.face.Head.of(line), line.clips[0])[1:4]
    b'PNG'
    """
    frames = frames_across(clip.frames, _MOMENTS).tolist()
    rows = [(f"{number / float(clip.rate):.2f} s", number) for number in frames]
    return reel_sheet(head, clip, rows, head.drafted.frame, title or f"{clip.name} on {head.figure.name}")


def reel(what: Reel, title: str = "") -> bytes:
    """Every move of a reel at its full: the joints of the body, and below them every shape of the face.

    >>> import fairswap
    >>> fairswap.picture.reel(fairswap.reel(fairswap.demo_file("pip.glb")))[1:4]
    b'PNG'
    """
    from PIL import Image

    rate, name = float(what.clip.rate), what.rigged.figure.name
    parts = [joints_image(what, title or f"{name}: every joint in the reel")]
    if what.shapes:
        rows = [(move.name, round((move.start_s + move.stop_s) / 2 * rate)) for move in what.shapes]
        drawn = reel_sheet(what.head, what.clip, rows, what.head.drafted.frame, f"{name}: the face in the reel")
        parts.append(Image.open(BytesIO(drawn)))
    sheet = Image.new("RGB", (max(part.width for part in parts), sum(part.height for part in parts)), byte(PAPER))
    for number, part in enumerate(parts):
        sheet.paste(part, (0, sum(other.height for other in parts[:number])))
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def loss(fitted: Fitted, title: str = "") -> bytes:
    """The figure coloured by how far its skin is from where it was; where it has fewer triangles, before and after.

    >>> import fairswap
    >>> fitted = fairswap.fit(fairswap.demo_motion("idle", by="Pip"), "fernway")
    >>> fairswap.picture.loss(fitted)[1:4]
    b'PNG'

    Raises
    ------
    ImpossibleError
        If there is no mesh to tell.
    """
    proof = fitted.proof or fitted.reel_proof
    if proof is None and fitted.reduced is None:
        raise ImpossibleError("there is no mesh whose change could be drawn", remedy="Leave the picture out")
    return loss_sheet(fitted.figure, proof, title or f"{fitted.figure.name} on {fitted.platform.name}", fitted.reduced)


def rigging(rigged: Rigged, folds: Folds | None = None, title: str = "") -> bytes:
    """The joints that were found in a mesh, how surely, and where its skin tears or folds.

    >>> import fairswap
    >>> fairswap.picture.rigging(fairswap.rig(fairswap.demo_file("pip.glb")))[1:4]
    b'PNG'
    """
    return rig_sheet(rigged, folds, title or rigged.figure.name)


def dressing(dressed: Dressed, title: str = "") -> bytes:
    """A figure in its clothes, and where these pass through the body at worst.

    >>> import fairswap
    >>> boots, osric = fairswap.demo_file("osric-boots.glb"), fairswap.demo_file("osric.glb")
    >>> idle = fairswap.clips.cut(fairswap.demo_motion("idle", by="Pip").clips[0], ["still=0..1f"])
    >>> made = fairswap.dress(fairswap.demo_file("pip.glb"), boots, made_for=osric, settle=False, clips=idle.clips)
    >>> fairswap.picture.dressing(made)[1:4]
    b'PNG'
    """
    name = title or f"{dressed.figure.name} in {', '.join(dressed.figure.meshes[i].name for i in dressed.worn)}"
    return cutting_sheet(dressed.figure, dressed.worn, dressed.cutting, dressed.clip, name, dressed.before)


def _panels(motions: Sequence[tuple[str, Motion]], roles: Sequence[str]) -> list[Panel]:
    panels = []
    for role in roles:
        lines = [(name, motion.clip, joint_curve(motion.rigged, motion.clip, role)) for name, motion in motions]
        for axis, word in enumerate(_AXES):
            rows = [Curve(name, np.arange(clip.frames) / float(clip.rate), line[:, axis]) for name, clip, line in lines]
            panels.append(Panel(f"{role}, about {word}", "degrees", rows))
    return panels


def _comparison_strips(comparison: Comparison) -> list[Strip]:
    times = comparison.times_s
    strips = []
    for which, (word, color) in enumerate((("source", _SOURCE), ("result", _RESULT))):
        for foot, side in enumerate(("left", "right")):
            spans = [(float(times[a]), float(times[b - 1])) for a, b in runs_of(comparison.standing[which, foot])]
            strips.append(Strip(f"{word} {side} foot", spans, color))
    return strips


def _strips(motion: Motion) -> list[Strip]:
    contacts, rate = contacts_of(motion.rigged, motion.clip), float(motion.clip.rate)
    return [
        Strip(
            f"{motion.clip.name[:18]} {side}", [(a / rate, (b - 1) / rate) for a, b in runs_of(contacts.standing(side))]
        )
        for side in ("left", "right")
    ]
