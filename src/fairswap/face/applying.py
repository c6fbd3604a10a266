"""Put a face clip, tracks from a table, or speech on a head."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.bones.profile import BoneProfile
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.face.chart import PERCENT_FROM, FaceChart
from fairswap.face.drafting import chart_from_names
from fairswap.face.head import Head, chart_of
from fairswap.face.limits import limited_by_region
from fairswap.face.speech.liveliness import nod_degrees, with_blinks, with_nods
from fairswap.face.speech.phones import is_speech
from fairswap.face.speech.speaking import Speech, SpeechOptions, is_spoken, speech_of
from fairswap.face.tracks import read_tracks
from fairswap.face.transfer import FaceSwap, TransferredFace, lay_units, perform_units, still_clip
from fairswap.formats.files import document_of, save
from fairswap.formats.naming import distinct
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.wording import counted


@dataclass(frozen=True, eq=False)
class AppliedFace:
    """Clips of a face put on a head; ``over`` is the clip of the head that one was laid over, and takes the place of.

    >>> import fairswap
    >>> fairswap.face.apply(fairswap.demo_motion("spoken line"), fairswap.demo_file("osric.glb")).clips
    (<Clip 'spoken line': 298 frames at 60, 4.95 s, 85 bones>,)
    """

    head: Head
    faces: tuple[TransferredFace, ...]
    findings: tuple[Finding, ...]
    over: str = ""

    @property
    def clips(self) -> tuple[Clip, ...]:
        """The clips that were made, of the head's figure."""
        return tuple(face.clip for face in self.faces)

    @property
    def all_clips(self) -> tuple[Clip, ...]:
        """Those the figure had, which stay, and those that were made; no two are called alike."""
        if self.over:
            return tuple(self.clips[0] if clip.name == self.over else clip for clip in self.head.clips)
        kept = self.head.clips
        names = distinct([clip.name for clip in self.clips], [clip.name for clip in kept])
        return (*kept, *(replace(clip, name=name) for clip, name in zip(self.clips, names, strict=True)))

    def save(self, out: str | Path, *, force: bool = False) -> list[str]:
        """Write the head's figure with its own clips and those that were made; give the names of the files.

        Raises
        ------
        OutputError
            If a file is there already or cannot be written.
        """
        return save(out, self.head.figure, self.all_clips, force=force)

    def __repr__(self) -> str:
        return f"<AppliedFace on {self.head.figure.name!r}: {counted(len(self.faces), 'clip')}>"


def apply(
    source: Document | str | Path | None, onto: Document | Figure | str | Path, *,
    source_chart: FaceChart | str | Path | None = None, target_chart: FaceChart | str | Path | None = None,
    target_bones: BoneProfile | str | Path | None = None, speech: SpeechOptions | None = None,
    clip: str | None = None, start_s: float = 0.0, ease_s: float = 0.2,
) -> AppliedFace:  # fmt: skip
    """Put a face clip, a table of weights, or speech on a head; on its own, or over a clip that moves it.

    >>> import fairswap
    >>> fairswap.face.apply(fairswap.demo_motion("spoken line"), fairswap.demo_file("pip.glb"))
    <AppliedFace on 'Pip': 1 clip>

    Parameters
    ----------
    source : path or Document, or None
        A glTF with a face that moves; a table of weights over time (a column ``time_s``, a column for each shape or
        unit); a table of speech (``start, end, phone``; phones in IPA or ARPAbet); a text (.txt); or a recording, with
        its words as ``speech.text``. None for those words alone.
    onto : path, Document or Figure
        The figure to animate.
    speech : SpeechOptions, optional
        Of speech: its words, and how it is spoken.
    clip : str, optional
        The clip of the figure that the face is laid over: its body, rate and name stay. From ``start_s`` on, the face
        that it has goes over into the new one in ``ease_s`` seconds, and back when that ends.

    Raises
    ------
    ImpossibleError
        If the figure has no face, no clip moves one, none of the tracks is known, or a text is not what is said.
    UsageError
        If there is nothing to put on, or a package is missing that it needs.
    """
    head = Head.of(onto, bones=target_bones, chart=target_chart)
    head.check_has_face()
    given, findings = chart_of(source_chart), list[Finding]()
    if clip is None and source is not None and _is_figure(source, speech or SpeechOptions()):
        faces = _from_clips(document_of(source), head, given)
    else:
        made = _units_of(source, given, speech or SpeechOptions(), findings)
        if clip is None:
            under = still_clip(head.figure, made.name, made.rate, made.units.shape[1])
            faces = [perform_units(head, made.units, under)]
        else:
            under = _clip_of(head, clip)
            left = start_s + (made.units.shape[1] - 1) / float(made.rate) - under.duration_s
            if left > 0.5 / float(under.rate):
                message = f"the face goes on for {left:.2f} s after {clip!r} has ended: cut off there"
                findings.append(Finding("face-cut", "warning", clip, message, "Lay it over a longer clip, or earlier"))
            faces = [lay_units(head, made.units, float(made.rate), _told_of(under), start_s, ease_s)]
        faces = [_nodding(face, made, head, start_s if clip else 0.0, findings) for face in faces]
    told = (*findings, *(found for face in faces for found in face.findings))
    return AppliedFace(head, tuple(faces), told, "" if clip is None else clip)


def _told_of(under: Clip) -> Clip:
    """A clip that says from now on that a face was laid over it: nobody minds then that its source's is still."""
    brought = dict(under.made or {})
    ours = brought.get("fairswap")
    record = ours if isinstance(ours, Mapping) else {"source": None, "target": None, "seconds": under.duration_s}
    return replace(under, made={**brought, "fairswap": {**record, "face_laid_on": True}})


@dataclass(frozen=True, eq=False)
class _Units:
    """Units over time ``(units, frames)`` and where they are from; ``nodding`` is the speech that the head nods to."""

    units: Floats
    rate: Fraction
    name: str
    nodding: Speech | None = field(default=None)


def _is_figure(source: Document | str | Path, speech: SpeechOptions) -> bool:
    if isinstance(source, Document):
        return True
    return Path(source).suffix.lower() != ".csv" and not is_spoken(source, speech)


def _units_of(
    source: Document | str | Path | None, chart: FaceChart | None, speech: SpeechOptions, findings: list[Finding]
) -> _Units:
    if source is None and speech.text is None:
        raise UsageError("there is nothing to put on the face", remedy="Give a file, or a text")
    if source is not None and _is_figure(source, speech):
        document = document_of(source)
        head = Head.of(document, chart=chart)
        clips = _moving(document, head)
        longest = max(clips, key=lambda row: row.duration_s)
        return _Units(head.units(longest), longest.rate, longest.name)
    assert not isinstance(source, Document)
    if source is not None and not is_spoken(source, speech) and not is_speech(source):
        return _from_tracks(Path(source), chart, findings)
    said, rate = speech_of(source, speech), Fraction(speech.rate)
    findings += said.findings
    units = said.units(rate, speech.strength)
    if speech.blinks:
        units = with_blinks(units, float(rate), said.phones)
    return _Units(units, rate, said.name, said if speech.nods else None)


def _nodding(
    face: TransferredFace, made: _Units, head: Head, start_s: float, findings: list[Finding]
) -> TransferredFace:
    """The face with the nods of its speech, if it shall nod and its head has a bone."""
    if made.nodding is None:
        return face
    if head.roles is None:
        message = "the head has no bone of its own, so it does not nod"
        findings.append(Finding("no-nods", "warning", face.clip.name, message))
        return face
    times = np.arange(face.clip.frames) / float(face.clip.rate) - start_s
    middles = np.array([0.5 * (phone.start_s + phone.stop_s) for phone in made.nodding.phones])
    degrees = nod_degrees(times, made.nodding.phones, made.nodding.loudness(middles))
    return replace(face, clip=with_nods(face.clip, head.roles.bones["head"], degrees))


def _clip_of(head: Head, name: str) -> Clip:
    found = next((clip for clip in head.clips if clip.name == name), None)
    if found is None:
        have = ", ".join(repr(clip.name) for clip in head.clips) or "none"
        raise UsageError(f"{head.figure.name!r} has no clip {name!r}", remedy=f"It has {have}")
    return found


def _moving(document: Document, head: Head) -> list[Clip]:
    clips = [clip for clip in document.clips_of(head.figure) if head.moves(clip)]
    if not clips:
        raise ImpossibleError("no clip in it moves a face", file=document.file, code="no-face-moves")
    return clips


def _from_clips(document: Document, head: Head, chart: FaceChart | None) -> list[TransferredFace]:
    source = Head.of(document, chart=chart)
    swap = FaceSwap(source, head)
    return [
        swap.transfer(clip, still_clip(head.figure, clip.name, clip.rate, clip.frames))
        for clip in _moving(document, source)
    ]


def _from_tracks(path: Path, given: FaceChart | None, findings: list[Finding]) -> _Units:
    tracks = read_tracks(path)
    chart = given or chart_from_names(tracks.names, path.stem)
    weights = tracks.weights
    if given is None and np.abs(weights).max(initial=0.0) > PERCENT_FROM:
        weights = weights / 100.0
        message = f"its weights go to {np.abs(tracks.weights).max():g}: read as percent"
        findings.append(
            Finding("tracks-percent", "note", path.name, message, "Give a chart with ranges if they are not")
        )
    known = {name: row for name, row in zip(tracks.names, weights, strict=True) if name in chart.shapes}
    if not known:
        remedy = "Name the columns after face units, or give a chart of them"
        raise ImpossibleError("none of its tracks is known", file=path, remedy=remedy)
    read = [f"{name} as {' + '.join(chart.units_of(name))}" for name in known if list(chart.units_of(name)) != [name]]
    if read and given is None:
        shown = ", ".join(read[:12]) + (f" and {len(read) - 12} more" if len(read) > 12 else "")
        message = f"tracks read by their names: {shown}"
        findings.append(Finding("tracks-read", "note", path.name, message, "Give a chart of them if one is wrong"))
    for name in tracks.names:
        if name not in known:
            message = f"track {name!r} is not known and does nothing"
            findings.append(Finding("track-unknown", "warning", path.name, message, "Rename it after a face unit"))
    units, limited = limited_by_region(chart.matrix @ chart.activations(known), float(tracks.rate), path.name)
    findings += limited
    return _Units(units, tracks.rate, path.stem)
