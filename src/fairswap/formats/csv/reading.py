"""From a table to a skeleton and a clip; what is missing is filled from its neighbours and told."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any

import msgspec
import numpy as np

from fairswap.errors import Finding, InputError, UsageError
from fairswap.formats.csv.frames import frames_of
from fairswap.formats.csv.writing import FIRST_LINE, PARTS
from fairswap.formats.limits import LARGEST_NUMBER, clip_numbers
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder
from fairswap.model.rate import rate_from_text_per_second
from fairswap.model.rotation import conjugate, multiply, normalized, rotate, without_sign_jumps
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS

_Three = Annotated[list[float], msgspec.Meta(min_length=3, max_length=3)]
_Four = Annotated[list[float], msgspec.Meta(min_length=4, max_length=4)]


class _Bone(msgspec.Struct, frozen=True):
    name: str
    parent: int
    place: _Three
    turn: _Four
    end: bool = False
    keyed: bool = True


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.csv`` of ours; see :func:`fairswap.load`. It is in metres and upright by definition."""
    try:
        lines = content.decode("utf-8-sig").splitlines()
    except UnicodeDecodeError:
        raise InputError("it is not UTF-8 text", remedy="Save it as CSV (UTF-8)") from None
    comments = [(number, line[1:].strip()) for number, line in enumerate(lines, 1) if line.startswith("#")]
    if not lines or lines[0].strip() != FIRST_LINE:
        raise InputError("it is not a table of motion", place="line 1", remedy=f"Its first line must be {FIRST_LINE}")
    name, rate, bones = _head(comments, path.stem)
    skeleton = _skeleton(bones)
    body = [(number, line) for number, line in enumerate(lines, 1) if line.strip() and not line.startswith("#")]
    values = _numbers(body[1:], 1 + len(bones) * len(PARTS)) if len(body) > 1 else np.empty((0, 1))
    if not len(values):
        raise InputError("there is no frame in it", code="table-again")
    findings: list[Finding] = []
    world = values[:, 1:].reshape(len(values), len(bones), len(PARTS))
    if not (np.linalg.norm(world[:, :, 3:], axis=2) > 0).all() and not np.isnan(world).any():
        raise InputError("a rotation in it is all zeros", code="table-again")
    most = clip_numbers(len(content)) // (len(bones) * len(PARTS))
    world = frames_of(values[:, 0], world, [number for number, _ in body[1:]], rate, path.stem, findings, most)
    clip = _clip(name, rate, skeleton, world, frozenset(i for i, bone in enumerate(bones) if bone.keyed))
    figure = Figure(path.stem, skeleton, (), OURS)
    return Document(str(path), "CSV", OURS, (figure,), (clip,), tuple(findings))


def _head(comments: list[tuple[int, str]], stem: str) -> tuple[str, Fraction, list[_Bone]]:
    name, rate = stem, Fraction(0)
    bones: list[_Bone] = []
    for number, comment in comments:
        key, _, text = comment.partition("=")
        place = f"line {number}"
        try:
            value: Any = json.loads(text)
            if key.strip() == "clip":
                name = str(value)
            elif key.strip() == "rate":
                rate = rate_from_text_per_second(str(value))
            elif key.strip() == "bone":
                bones.append(msgspec.convert(value, _Bone))
        except (msgspec.ValidationError, UsageError, ValueError, RecursionError) as error:
            raise InputError(f"{key.strip()[:20]} cannot be read ({error})", place=place, code="table-again") from None
    if not rate:
        raise InputError("its rate is missing or no rate", place="# rate", remedy='Write # rate = "30", say')
    if not bones:
        raise InputError("no bone is described in it", place="# bone", code="table-again")
    return name, rate, bones


def _skeleton(bones: list[_Bone]) -> Skeleton:
    for number, bone in enumerate(bones):
        if not -1 <= bone.parent < number:
            problem = f"bone {bone.name!r} hangs on bone {bone.parent}, which does not come before it"
            raise InputError(problem, place="# bone", code="table-again")
        if not all(abs(part) <= LARGEST_NUMBER for part in (*bone.place, *bone.turn)) or not any(bone.turn):
            raise InputError(f"the rest of bone {bone.name!r} is not a transform", place="# bone", code="table-again")
    return Skeleton(
        tuple(bone.name for bone in bones),
        np.array([bone.parent for bone in bones], dtype=np.intp),
        normalized(np.array([bone.turn for bone in bones])),
        np.array([bone.place for bone in bones], dtype=np.float64),
        frozenset(i for i, bone in enumerate(bones) if bone.end),
    )


def _numbers(rows: list[tuple[int, str]], columns: int) -> Floats:
    out = np.empty((len(rows), columns))
    for index, (number, line) in enumerate(rows):
        cells = line.split(",")
        if len(cells) != columns:
            raise InputError(
                f"it has {len(cells)} cells, {columns} are needed", place=f"line {number}", code="table-again"
            )
        try:
            out[index] = [float(cell) if cell.strip() else np.nan for cell in cells]
        except ValueError:
            bad = next(cell for cell in cells if cell.strip() and not _is_float(cell))
            raise InputError(f"{bad[:30]!r} is not a number", place=f"line {number}", code="table-again") from None
    wrong = np.flatnonzero((np.abs(out) > LARGEST_NUMBER).any(axis=1))
    if len(wrong):
        place = f"line {rows[int(wrong[0])][0]}"
        raise InputError("a number is beyond any place", place=place, code="table-again")
    return out


def _is_float(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True


def _clip(name: str, rate: Fraction, skeleton: Skeleton, world: Floats, keyed: frozenset[int]) -> Clip:
    places, turns = world[:, :, :3], world[:, :, 3:]
    if not np.linalg.norm(turns, axis=2).all():
        raise InputError("a rotation in it is all zeros", code="table-again")
    turns = normalized(turns)
    tracks = np.empty((len(skeleton), 4, len(world)))
    moved = {}
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if parent < 0:
            local, place = turns[:, bone], places[:, bone]
        else:
            undo = conjugate(turns[:, parent])
            local = multiply(undo, turns[:, bone])
            place = rotate(undo, places[:, bone] - places[:, parent])
        tracks[bone] = without_sign_jumps(np.ascontiguousarray(local.T))
        if np.abs(place - skeleton.rest_translations[bone]).max() > 1e-9 * max(1.0, float(np.abs(places).max())) * 100:
            moved[bone] = place.T
    return Clip(name, rate, PoseBuilder(skeleton, tracks, moved).poses(), keyed)
