"""Put a face clip, tracks from a table, or speech on a head."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.errors import Finding, ImpossibleError
from fairswap.face.chart import FaceChart
from fairswap.face.drafting import chart_from_names
from fairswap.face.head import Head, chart_of
from fairswap.face.speech import is_speech, read_phones, units_from_phones
from fairswap.face.tracks import read_tracks
from fairswap.face.transfer import FaceSwap, TransferredFace, perform_units, still_clip
from fairswap.formats.files import document_of, save
from fairswap.formats.naming import distinct
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure


@dataclass(frozen=True, eq=False)
class AppliedFace:
    """Clips of a face put on a head.

    >>> import fairswap
    >>> fairswap.face.apply(fairswap.demo_motion("spoken line"), fairswap.demo_file("osric.glb")).clips
    (<Clip 'spoken line': 298 frames at 60, 4.95 s, 85 bones>,)
    """

    head: Head
    faces: tuple[TransferredFace, ...]
    findings: tuple[Finding, ...]

    @property
    def clips(self) -> tuple[Clip, ...]:
        """The clips that were made, of the head's figure."""
        return tuple(face.clip for face in self.faces)

    @property
    def all_clips(self) -> tuple[Clip, ...]:
        """Those the figure had, which stay, and those that were made; no two are called alike."""
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
        return f"<AppliedFace on {self.head.figure.name!r}: {len(self.faces)} clips>"


def apply(
    source: Document | str | Path, onto: Document | Figure | str | Path, *,
    source_chart: FaceChart | str | Path | None = None, target_chart: FaceChart | str | Path | None = None,
    target_bones: BoneProfile | str | Path | None = None, rate: int = 60, strength: float = 1.0,
) -> AppliedFace:  # fmt: skip
    """Put a face clip, a table of weights or a table of speech on a head.

    >>> import fairswap
    >>> fairswap.face.apply(fairswap.demo_motion("spoken line"), fairswap.demo_file("pip.glb"))
    <AppliedFace on 'Pip': 1 clips>

    Parameters
    ----------
    source : path or Document
        A glTF with a face that moves; a table of weights over time (a column ``time_s``, a column for each shape or
        unit); or a table of speech (``start, end, phone``; phones in IPA or ARPAbet).
    onto : path, Document or Figure
        Whose face shall move.
    rate, strength :
        Of speech: frames per second, and how far the mouth goes.

    Raises
    ------
    ImpossibleError
        If the figure has no face, no clip moves one, or none of the tracks is known.
    """
    head = Head.of(onto, bones=target_bones, chart=target_chart)
    if not head.chart.columns:
        problem = f"{head.figure.name!r} has no face that could move: no morphs, and no bones of a face"
        raise ImpossibleError(problem, code="no-face-moves")
    given = chart_of(source_chart)
    findings: list[Finding] = []
    if isinstance(source, Document) or Path(source).suffix.lower() != ".csv":
        faces = _from_clips(document_of(source), head, given)
    elif is_speech(source):
        units = units_from_phones(read_phones(source), Fraction(rate), strength)
        still = still_clip(head.figure, Path(source).stem, Fraction(rate), units.shape[1])
        faces = [perform_units(head, units, still)]
    else:
        faces = [_from_tracks(Path(source), head, given, findings)]
    return AppliedFace(head, tuple(faces), (*findings, *(found for face in faces for found in face.findings)))


def _from_clips(document: Document, head: Head, chart: FaceChart | None) -> list[TransferredFace]:
    source = Head.of(document, chart=chart)
    clips = [clip for clip in document.clips_of(source.figure) if source.moves(clip)]
    if not clips:
        raise ImpossibleError("no clip in it moves a face", file=document.file, code="no-face-moves")
    swap = FaceSwap(source, head)
    return [swap.transfer(clip, still_clip(head.figure, clip.name, clip.rate, clip.frames)) for clip in clips]


def _from_tracks(path: Path, head: Head, given: FaceChart | None, findings: list[Finding]) -> TransferredFace:
    tracks = read_tracks(path)
    chart = given or chart_from_names(tracks.names, path.stem)
    known = {name: row for name, row in zip(tracks.names, tracks.weights, strict=True) if name in chart.shapes}
    if not known:
        remedy = "Name the columns after face units, or give a chart of them"
        raise ImpossibleError("none of its tracks is known", file=path, remedy=remedy)
    for name in tracks.names:
        if name not in known:
            message = f"track {name!r} is not known and does nothing"
            findings.append(Finding("track-unknown", "warning", path.name, message, "Rename it after a face unit"))
    units = chart.matrix @ chart.activations(known)
    return perform_units(head, units, still_clip(head.figure, path.stem, tracks.rate, tracks.weights.shape[1]))
