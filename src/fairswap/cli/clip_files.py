"""What all verbs of ``fairswap clip`` share: files read, clips picked and changed, results written and reported."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fairswap.cli import manners
from fairswap.cli.clip_lines import change_lines

if TYPE_CHECKING:
    from fairswap.body.subject import Subject
    from fairswap.clip import Clip
    from fairswap.document import Document


def loaded(path: Path, out: Path | None) -> Document:
    from fairswap.files import load

    if out is not None:
        manners.never_an_input(out, (path,))
    return load(path)


def chosen(document: Document, names: Sequence[str]) -> list[Clip]:
    """The clips of the main figure that are named, or all."""
    from fairswap.errors import ImpossibleError

    clips = list(document.clips_of(document.figure))
    if not clips:
        raise ImpossibleError("there is no clip in it", file=document.file)
    return [named(clips, name, document) for name in names] if names else clips


def named(clips: Sequence[Clip], name: str, document: Document) -> Clip:
    found = next((clip for clip in clips if clip.name == name), None)
    return found if found is not None else document.clip(name)


def one_of(document: Document, names: Sequence[str]) -> Clip:
    """The one clip that is meant: named, or the only one, or the longest."""
    return max(chosen(document, names[:1]), key=lambda clip: clip.frames)


def on_figure(document: Document, figure: Any) -> list[Clip]:
    """The clips of a document on the bones of ``figure``, if theirs are called alike."""
    from dataclasses import replace

    out = []
    for clip in document.clips_of(document.figure):
        if clip.skeleton.names == figure.skeleton.names and clip.skeleton is not figure.skeleton:
            clip = replace(clip, poses=replace(clip.poses, skeleton=figure.skeleton), origin=None)
        out.append(clip)
    return out


def subject_of(document: Document, bones: str | None, clip: Clip | None) -> Subject:
    from fairswap.body.subject import Subject
    from fairswap.bones.profile import profile_named

    moving = clip or next(iter(document.clips_of(document.figure)), None)
    return Subject("file", document.figure, profile_named(bones) if bones else None, clip=moving)


def each(one: Callable[[Clip], Clip]) -> Callable[[Sequence[Clip]], list[Clip]]:
    return lambda clips: [one(clip) for clip in clips]


def picked(document: Document, names: Sequence[str], change: Callable[[Sequence[Clip]], list[Clip]]) -> list[Clip]:
    """All clips of the figure, those that are picked changed."""
    mine = chosen(document, names)
    changed = dict(zip(map(id, mine), change(mine), strict=True))
    return [changed.get(id(clip), clip) for clip in document.clips_of(document.figure)]


def change_file(
    file: Path, names: Sequence[str], out: Path, force: bool, as_json: bool, quiet: bool, verb: str,
    change: Callable[[Sequence[Clip]], list[Clip]],
) -> None:  # fmt: skip
    change_document(loaded(file, out), names, out, force, as_json, quiet, verb, change)


def change_document(
    document: Document, names: Sequence[str], out: Path, force: bool, as_json: bool, quiet: bool, verb: str,
    change: Callable[[Sequence[Clip]], list[Clip]],
) -> None:  # fmt: skip
    """Change clips and write the file; the report says each clip before and after."""
    before = list(document.clips_of(document.figure))
    after = picked(document, names, change)
    rows = [
        {"clip": new.name, "before": _facts(old), "after": _facts(new)} for old, new in zip(before, after, strict=True)
    ]
    save_clips(document, after, out, force, {"verb": verb, "clips": rows}, [], as_json, quiet)


def _facts(clip: Clip) -> dict[str, Any]:
    return {
        "name": clip.name,
        "frames": clip.frames,
        "rate": round(float(clip.rate), 6),
        "seconds": round(clip.duration_s, 6),
        "travel_m": round(clip.travel_m, 4),
    }


def save_clips(
    document: Document, clips: Sequence[Clip], out: Path, force: bool, report: dict[str, Any], findings: Sequence[Any],
    as_json: bool, quiet: bool, lines: Callable[[dict[str, Any]], Iterator[str]] | None = None,
) -> None:  # fmt: skip
    from fairswap.job import outputs_for, write_outputs

    suffix = Path(document.file).suffix
    rows = outputs_for(out, clips, suffix)
    for path, _ in rows:
        manners.never_an_input(path, (Path(document.file),))
    report["written"] = list(write_outputs(rows, document.figure, force=force))
    report["findings"] = [finding.as_dict() for finding in (*document.findings, *findings)]
    manners.emit(report, (lines or change_lines)(report), as_json, quiet)


def rounded(row: object) -> dict[str, Any]:
    return {key: round(value, 4) for key, value in vars(row).items()}
