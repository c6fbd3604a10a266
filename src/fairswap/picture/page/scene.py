"""What a page shows, as plain data: figures with their bones by role, their clips, and what is worth seeing in them.

All names are kept as text; the player puts them on the page as text, never as markup.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fairswap.bones.roles import MUST_HAVE, SIDES, part_of, role_order, side_of
from fairswap.clips.cleaning import find_faults
from fairswap.errors import FairSwapError, Finding
from fairswap.measure.comparison import Comparison
from fairswap.measure.contacts import contacts_of
from fairswap.measure.touches import touching
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.signals import runs_of
from fairswap.pose.rigged import RiggedFigure

# By clip, what it is made of or was cut into: seconds from and to, and a name.
Pieces = Mapping[str, Sequence[tuple[float, float, str]]]

# A role is a guess below this.
_SURE = 0.9
# Points of a curve on the page: more than its pixels are not seen.
_MOST_POINTS = 1200
# Marks of faults: more of them are no help.
_MOST_FAULTS = 40
# Degrees, or centimetres, that are worth a look.
_WORTH = 1.0


@dataclass(frozen=True, eq=False)
class Shown:
    """One figure on a page: its clips, what it is called there, how its bones are known, and what to tell of it.

    ``against`` are comparisons with the first figure of the page, by clip. ``rigged`` is None where bones are unknown.
    ``marks`` are moments worth seeing (seconds and words), ``notes`` a word to each clip, and ``pieces`` what it is
    made of or was cut into, by clip.
    """

    title: str
    figure: Figure
    clips: tuple[Clip, ...]
    rigged: RiggedFigure | None = None
    findings: tuple[Finding, ...] = ()
    against: Mapping[str, Comparison] = field(default_factory=dict)
    marks: Mapping[str, Sequence[tuple[float, str]]] = field(default_factory=dict)
    notes: Mapping[str, str] = field(default_factory=dict)
    pieces: Pieces = field(default_factory=dict)


def scene_of(shown: Shown) -> dict[str, Any]:
    """One figure as data: bones, roles, clips with their contacts, curves and marks, morphs, findings."""
    figure, rigged = shown.figure, shown.rigged
    skeleton = figure.skeleton
    role_of = {} if rigged is None else {bone: role for role, bone in rigged.roles.bones.items()}
    resting = skeleton.rest.positions[0]
    bones = [
        {
            "name": skeleton.names[bone],
            "parent": int(skeleton.parents[bone]),
            "role": role_of.get(bone, ""),
            "side": _side(role_of.get(bone, ""), float(resting[bone, 0])),
            "end": bone in skeleton.ends,
        }
        for bone in range(len(skeleton))
    ]
    return {
        "title": shown.title,
        "name": figure.name,
        "height": _height(figure, shown.clips),
        "floor": float(figure.floor_m if rigged is None else rigged.floor_m),
        "leg": 0.0 if rigged is None else float(rigged.reference.leg_m),
        "bones": bones,
        "roles": [] if rigged is None else _roles(rigged),
        "meshes": [{"name": mesh.name, "morphs": list(mesh.morph_names)} for mesh in figure.meshes],
        "triangles": sum(len(mesh.triangles) for mesh in figure.meshes),
        "clips": [_clip(shown, clip) for clip in shown.clips],
        "findings": [
            {"severity": row.severity, "place": row.place, "message": row.message, "remedy": row.remedy}
            for row in shown.findings
        ],
    }


def _clip(shown: Shown, clip: Clip) -> dict[str, Any]:
    rate = float(clip.rate)
    comparison = shown.against.get(clip.name)
    marks = [{"at": at, "text": text} for at, text in shown.marks.get(clip.name, ())] + _faults(clip)
    row: dict[str, Any] = {
        "name": clip.name, "seconds": clip.duration_s, "rate": rate, "frames": clip.frames,
        "note": shown.notes.get(clip.name, ""),
        "pieces": [{"from": a, "to": b, "name": name} for a, b, name in shown.pieces.get(clip.name, ())],
        "contacts": {} if shown.rigged is None else _contacts(shown.rigged, clip),
    }  # fmt: skip
    if comparison is not None:
        row["verdict"] = comparison.verdict
        row["likeness"] = round(comparison.likeness, 1)
        row["curves"] = _curves(comparison)
        marks += _worst_moments(comparison)
    row["marks"] = sorted(marks, key=lambda mark: mark["at"])
    return row


def _faults(clip: Clip) -> list[dict[str, Any]]:
    """Spikes of a recording, and a rest pose before it, where they are."""
    found = [fault for fault in find_faults(clip) if fault.kind in ("spike", "lead-in")][:_MOST_FAULTS]
    return [
        {"at": (fault.first if fault.kind == "spike" else fault.last) / float(clip.rate),
         "text": f"{fault.kind} of {fault.bone}"}
        for fault in found
    ]  # fmt: skip


def _contacts(rigged: RiggedFigure, clip: Clip) -> dict[str, list[list[float]]]:
    """When feet stand and hands touch, seconds from and to."""
    rate = float(clip.rate)
    try:
        found = contacts_of(rigged, clip)
        rows = {f"{side} foot": found.standing(side) for side in SIDES}
        hands = touching(rigged, ChainWorld(clip.poses), rate, found.floor)
        rows |= {f"{side} hand": row for side, row in zip(SIDES, hands, strict=True)}
    except FairSwapError:
        return {}
    return {name: [[a / rate, b / rate] for a, b in runs_of(row)] for name, row in rows.items()}


def _curves(comparison: Comparison) -> dict[str, dict[str, Any]]:
    """How far each part of the body is off over time: degrees, or of the place percent of the leg."""
    rows = {part: (values, "°") for part, values in comparison.degrees_by_part.items()}
    rows["place"] = comparison.hips_percent, "% of leg"
    every = max(1, -(-len(comparison.times_s) // _MOST_POINTS))
    return {
        part: {
            "unit": unit,
            "every": every / float(comparison.source.clip.rate),
            "start": float(comparison.times_s[0]),
            "values": np.round(_coarser(values, every), 2).tolist(),
        }
        for part, (values, unit) in rows.items()
    }


def _coarser(values: Floats, every: int) -> Floats:
    """The most of each run of so many values: a peak is not lost."""
    padded = np.pad(values, (0, -len(values) % every), mode="edge")
    return np.asarray(padded.reshape(-1, every).max(axis=1))


def _worst_moments(comparison: Comparison) -> list[dict[str, Any]]:
    """Where each part is furthest off, if that is worth looking at."""
    marks = []
    for score in comparison.parts:
        if score.score >= 95.0 or score.part not in comparison.degrees_by_part:
            continue
        values = comparison.degrees_by_part[score.part]
        worst = int(np.argmax(values))
        if values[worst] < _WORTH:
            continue  # it scores by something else than its turns
        text = f"{score.part} furthest off: {values[worst]:.1f}° ({score.score:.0f} of 100)"
        marks.append({"at": float(comparison.times_s[worst]), "text": text})
    for inside in comparison.inside:
        if inside.beyond_cm >= _WORTH:
            said = f"{inside.limb} goes {inside.deepest_cm:.1f} cm into {inside.into}".replace("_", " ")
            marks.append({"at": inside.at_s, "text": said})
    return marks


def _roles(rigged: RiggedFigure) -> list[dict[str, Any]]:
    """Each role: its bone and whether that is known, guessed or missing."""
    roles = rigged.roles
    names = sorted({*roles.bones, *MUST_HAVE}, key=role_order)
    return [
        {
            "role": role,
            "part": part_of(role),
            "bone": roles.bones.get(role, -1),
            "state": "missing" if role not in roles.bones
            else "guessed" if roles.confidences.get(role, 1.0) < _SURE else "matched",
        }
        for role in names
    ]  # fmt: skip


def _side(role: str, x: float) -> str:
    if role:
        return side_of(role) or ""
    return "" if abs(x) < 0.01 else "left" if x > 0.0 else "right"


def _height(figure: Figure, clips: Sequence[Clip]) -> float:
    """How tall it is, for the camera: at rest, or where that has none, in motion."""
    if figure.height_m > 1e-3:
        return float(figure.height_m)
    for clip in clips:
        tall = float(np.ptp(clip.poses.at([0]).world().positions[0], axis=0).max())
        if tall > 1e-3:
            return tall
    return 1.0
