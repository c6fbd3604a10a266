"""Expressions one after the other on a timeline: poses of face bones held in turn, or morphs run to full in turn.

Many heads come so: the clip is their only list of expressions, and a table beside it says what they are called.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding, UsageError
from fairswap.face.bones import bone_features, face_alone, face_bones, pose_from_frame
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.drafting import FaceDraft, doubts, draft_face
from fairswap.face.geometry import fitted_frame, head_frame
from fairswap.face.guessing import ShapeGuess, best_word, guess_shapes
from fairswap.face.neutral import at_ease, seen_on
from fairswap.face.words import shape_name
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses

# A face is away from rest, and held, if its bones are (by features: head sizes, and degrees at 0.006) further and move
# by less of their way in a frame. A list of expressions has so many of them at least.
_AWAY, _STILL, _FEWEST = 0.01, 0.04, 4
# A morph is full at this share of the most it ever has.
_FULL = 0.9


def draft_timeline(
    figure: Figure, roles: RoleMap | None, clip: Clip, held: Sequence[tuple[int, str]] | None = None
) -> FaceDraft:
    """A chart from a clip in which each expression is held in turn: poses of face bones, or names for morphs.

    Parameters
    ----------
    held : sequence of (frame, name), optional
        Which frame holds which expression; without, the frames are found, and poses called by them.

    Raises
    ------
    UsageError
        If a frame is not in the clip, or nothing of the face moves in it.
    """
    for number, _ in held or ():
        if not 0 <= number < clip.frames:
            remedy = f"It has frames 0 to {clip.frames - 1}"
            raise UsageError(f"clip {clip.name!r} has no frame {number}", remedy=remedy)
    names = dict(held) if held is not None else dict.fromkeys(_held_by_morphs(figure, clip), "")
    called = _morphs_called(figure, clip, names)
    poses = {} if roles is None else _poses_held(figure, roles, clip, held)
    if not called and not poses:
        remedy = "Give a table of the frames on which expressions are held, or another clip"
        raise UsageError(f"nothing of the face moves in {clip.name!r}", remedy=remedy)
    return _of_bones(figure, roles, clip, poses) if poses and roles else _of_morphs(figure, roles, clip, called)


def expression_clips(figure: Figure, roles: RoleMap | None, clips: Sequence[Clip]) -> list[Finding]:
    """Which clips look like lists of expressions of face bones: worth drafting from."""
    found = []
    for clip in clips:
        count = 0 if roles is None else len(_held_by_bones(figure, roles, clip.poses))
        if count >= _FEWEST:
            message = f"clip {clip.name!r} looks like {count} expressions of face bones, one after the other"
            found.append(Finding("expressions-held", "note", clip.name, message, facts={"clip": clip.name}))
    return found


def _of_morphs(figure: Figure, roles: RoleMap | None, clip: Clip, called: Mapping[str, str]) -> FaceDraft:
    """The draft of a head whose morphs are called otherwise in a table."""
    spoken = {name: other for name, other in called.items() if other}
    meshes = tuple(
        replace(mesh, morph_names=tuple(spoken.get(name, name) for name in mesh.morph_names)) for mesh in figure.meshes
    )
    drafted = draft_face(replace(figure, meshes=meshes), roles, [clip])
    back = {other: name for name, other in spoken.items()}
    guesses = {}
    for name, guess in drafted.guesses.items():
        why = (*guess.reasons, f"called {name!r} in the table") if name in back else guess.reasons
        guesses[back.get(name, name)] = replace(guess, reasons=why)
    chart = drafted.chart.renamed(back)
    guesses = {name: replace(guess, shape=chart.shapes[name]) for name, guess in guesses.items()}
    return FaceDraft(chart, guesses, drafted.frame, drafted.findings)


def _of_bones(
    figure: Figure, roles: RoleMap, clip: Clip, held: Mapping[str, tuple[int, Mapping[str, tuple[Floats, Floats]]]]
) -> FaceDraft:
    """The draft of poses of face bones, by what each does to the skin."""
    figure = at_ease(figure, roles)
    frame = head_frame(figure, roles)
    bones, names, moves = face_bones(figure.skeleton, roles, frame), list(held), []
    for number, _ in held.values():
        world = face_alone(seen_on(figure, clip.poses.at([number])), set(bones.values())).world()
        moves.append(np.concatenate(figure.skin(world)) - figure.rest_points)
    whole = np.array(moves)
    guesses = guess_shapes(names, fitted_frame(frame, figure.rest_points, whole), figure.rest_points, whole, {})
    for name, (_, pose) in held.items():
        guess = guesses[name]
        units = guess.shape.units or (shape_name(name).scores and {best_word(name): 1.0}) or {}
        guesses[name] = ShapeGuess(Shape(name, units, bones=pose), guess.confidence, guess.reasons)
    chart = FaceChart(figure.name, {name: guess.shape for name, guess in guesses.items()})
    return FaceDraft(chart, guesses, frame, [row for name, guess in guesses.items() for row in doubts(name, guess)])


def _poses_held(
    figure: Figure, roles: RoleMap, clip: Clip, held: Sequence[tuple[int, str]] | None
) -> dict[str, tuple[int, Mapping[str, tuple[Floats, Floats]]]]:
    """Each expression of face bones by name: its frame, and what the bones do; those at rest are left out."""
    if held is None:
        held = [(number, f"pose at frame {number}") for number in _held_by_bones(figure, roles, clip.poses)]
    figure = at_ease(figure, roles)
    frame = head_frame(figure, roles)
    bones, poses = face_bones(figure.skeleton, roles, frame), seen_on(figure, clip.poses)
    rows = ((name, number, pose_from_frame(poses, number, bones, frame)) for number, name in held)
    return {name: (number, pose) for name, number, pose in rows if pose}


def _held_by_bones(figure: Figure, roles: RoleMap, poses: Poses) -> list[int]:
    """The frames on which the bones of a face hold something: the middle of each hold, or the top of a short one."""
    figure = at_ease(figure, roles)
    frame = head_frame(figure, roles)
    bones = face_bones(figure.skeleton, roles, frame)
    if not bones or poses.frames < 3:
        return []
    seen = bone_features(seen_on(figure, poses), bones, frame)
    away = np.linalg.norm(seen, axis=0)
    speed = np.linalg.norm(np.diff(seen, axis=1), axis=0)
    still = np.concatenate([[True], speed < _STILL * np.maximum(away[1:], _AWAY)])
    held = still & np.append(still[1:], True) & (away > _AWAY)
    found = [int(run[len(run) // 2]) for run in _runs(held)]
    if len(found) < _FEWEST:  # no holds: the tops between dips
        tops = (away[1:-1] >= away[:-2]) & (away[1:-1] > away[2:]) & (away[1:-1] > _AWAY)
        found = [int(number) + 1 for number in np.flatnonzero(tops)]
    # What is held once more, or further on the way to the same, is one expression.
    different: list[int] = []
    for number in found:
        if all(np.linalg.norm(seen[:, number] - seen[:, other]) > 0.2 * away[number] for other in different):
            different.append(number)
    return different


def _held_by_morphs(figure: Figure, clip: Clip) -> list[int]:
    """The frames on which each morph is fullest."""
    return [int(np.argmax(row)) for _, row in _rows(figure, clip) if row.max(initial=0.0) > 0.0]


def _morphs_called(figure: Figure, clip: Clip, names: Mapping[int, str]) -> dict[str, str]:
    """What each morph is called that is full on a frame, alone of all."""
    rows = {name: row / row.max() for name, row in _rows(figure, clip) if row.max(initial=0.0) > 0.0}
    out = {}
    for number, called in names.items():
        full = [name for name, row in rows.items() if row[number] >= _FULL]
        if len(full) == 1:
            out[full[0]] = called
    return out


def _rows(figure: Figure, clip: Clip) -> list[tuple[str, Floats]]:
    return [
        (name, row)
        for track in clip.poses.morph_tracks
        for name, row in zip(figure.meshes[track.mesh].morph_names, track.weights, strict=True)
    ]


def _runs(mask: np.ndarray) -> list[np.ndarray]:
    """The numbers of frames of each unbroken run."""
    numbers = np.flatnonzero(mask)
    return [run for run in np.split(numbers, np.flatnonzero(np.diff(numbers) > 1) + 1) if len(run)]
