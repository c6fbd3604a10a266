"""Animations: channels that move parts of a node's transform, or morphs, gathered to clips."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.collada.library import Library, all_below, children
from fairswap.formats.collada.nodes import Placed
from fairswap.formats.gltf.animations import keys_put_in_order, rate_of_times
from fairswap.formats.limits import clip_numbers
from fairswap.formats.marks import RECORD
from fairswap.formats.markup import Tag, numbers_of
from fairswap.formats.scene.building import trs_from_matrices
from fairswap.formats.scene.decided import decided_from
from fairswap.model.arrays import Floats

_AGAIN = "Export the file again"
_MEMBERS = {"X": 0, "Y": 1, "Z": 2, "W": 3, "ANGLE": 3, "R": 0, "G": 1, "B": 2, "A": 3, "U": 0, "V": 1}
# Turns and places that were keyed by themselves bend between their keys: they are sampled so often at least.
_LEAST_RATE = 30.0
# Of a curve that is cut, so many points a second; of no longer one than this.
_CURVE_RATE, _LONGEST_S = 120.0, 3600.0


@dataclass(frozen=True)
class Channel:
    """One channel: whose, which step and which of its numbers (None for all), and its keys; whether they were ``mixed``
    in the file, not in the order of time."""

    owner: str
    step: str
    member: int | None
    times: Floats
    values: Floats
    interpolation: list[str]
    tangents: tuple[Floats | None, Floats | None]
    tag: Tag
    mixed: bool = False

    @property
    def target(self) -> tuple[str, str, int | None]:
        """What it moves."""
        return self.owner, self.step, self.member

    @property
    def whole_width(self) -> int:
        """How many numbers it sets, if it sets all of a step; 0 if one of them."""
        return self.values.shape[1] if self.member is None else 0

    def sampled(self, times: Floats) -> Floats:
        """Values ``(frames, width)``, held before the first and after the last key."""
        if len(self.times) == 1:
            return np.repeat(self.values, len(times), axis=0)
        inside = np.clip(times, self.times[0], self.times[-1])
        before = np.clip(np.searchsorted(self.times, inside + 1e-6, side="right") - 1, 0, len(self.times) - 2)
        step = self.times[before + 1] - self.times[before]
        along = np.clip((inside - self.times[before]) / np.where(step > 0.0, step, 1.0), 0.0, 1.0)
        first, second = self.values[before], self.values[before + 1]
        out = first + (second - first) * along[:, None]
        kinds = np.array(self.interpolation)[before]
        held = (kinds == "STEP") & (along < 1.0)
        out[held] = first[held]
        incoming, outgoing = self.tangents
        for kind in ("BEZIER", "HERMITE"):
            rows = np.flatnonzero(kinds == kind)
            if len(rows) and incoming is not None and outgoing is not None:
                at = before[rows]
                out[rows] = self._curved(kind, at, inside[rows], along[rows], outgoing[at], incoming[at + 1])
        return out

    def _curved(
        self, kind: str, at: np.ndarray, times: Floats, along: Floats, leaving: Floats, coming: Floats
    ) -> Floats:
        first, second = self.values[at], self.values[at + 1]
        start, end = self.times[at], self.times[at + 1]
        width = first.shape[1]
        if leaving.shape[1] == 2 * width:  # a place for each number: time and value by turns
            ahead, behind = leaving[:, 0::2], coming[:, 0::2]
            leaving, coming = leaving[:, 1::2], coming[:, 1::2]
        else:  # values alone: their times are at the thirds (COLLADA 1.4.1, interpolating with Bézier curves)
            third = (end - start)[:, None] / 3.0
            ahead = np.broadcast_to(start[:, None] + third, leaving.shape)
            behind = np.broadcast_to(end[:, None] - third, coming.shape)
        if kind == "HERMITE":
            s = along[:, None]
            return (
                (2 * s**3 - 3 * s**2 + 1) * first + (s**3 - 2 * s**2 + s) * leaving
                + (3 * s**2 - 2 * s**3) * second + (s**3 - s**2) * coming
            )  # fmt: skip
        # The parameter at which the curve of times is where we are: halved again and again, all at once.
        low, high = np.zeros(first.shape), np.ones(first.shape)
        for _ in range(40):
            s = (low + high) / 2.0
            early = _bezier(s, start[:, None], ahead, behind, end[:, None]) < times[:, None]
            low, high = np.where(early, s, low), np.where(early, high, s)
        return _bezier((low + high) / 2.0, first, leaving, coming, second)


def _bezier(s: Floats, a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
    t = 1.0 - s
    return t**3 * a + 3 * t**2 * s * b + 3 * t * s**2 * c + s**3 * d


class NamedClip(NamedTuple):
    """A clip as the document has it: its name, what it moves, and what it brings along about how it was made."""

    name: str
    rows: list[Channel]
    made: Mapping[str, Any] | None = None


def clips_of(library: Library) -> list[NamedClip]:
    """The clips: those that the document names; else all that moves, apart where things are moved twice."""
    animations = [one for held in children(library.root, "library_animations") for one in children(held, "animation")]
    named = [
        (clip, one)
        for held in children(library.root, "library_animation_clips")
        for clip in children(held, "animation_clip")
        for one in [[library.at(tag, tag.get("url"), "animation") for tag in children(clip, "instance_animation")]]
    ]
    made: dict[int, list[Channel]] = {}

    def channels(animation: Tag) -> list[Channel]:
        if id(animation) not in made:
            made[id(animation)] = _channels(library, animation)
        return made[id(animation)]

    clips: list[NamedClip] = []
    for clip, own in named:
        start, end = (_seconds(clip, name) for name in ("start", "end"))
        rows = [row for animation in own for row in channels(animation)]
        name = clip.get("name") or clip.get("id") or ""
        clips.append(NamedClip(name, [_cut(row, start or 0.0, end) for row in rows], _made(clip)))
    if named:
        return [clip for clip in clips if clip.rows]
    groups: list[tuple[str, list[Channel], set[tuple[str, str, int | None]]]] = []
    for animation in animations:
        rows = channels(animation)
        targets = {row.target for row in rows}
        free = next((group for group in groups if group[2].isdisjoint(targets)), None)
        if free is None:
            free = animation.get("name") or animation.get("id") or "", [], set()
            groups.append(free)
        free[1].extend(rows)
        free[2].update(targets)
    several = len(groups) > 1
    return [NamedClip(name if several or len(animations) == 1 else "", rows) for name, rows, _ in groups if rows]


def _made(clip: Tag) -> Mapping[str, Any] | None:
    """What a file of ours keeps with a clip, where the format has a place for what is nobody else's."""
    for held in children(clip, "extra"):
        for technique in children(held, "technique"):
            if technique.get("profile") == RECORD:
                return decided_from(technique.text)
    return None


def _seconds(clip: Tag, name: str) -> float | None:
    text = clip.get(name)
    return float(numbers_of(clip, text, 1)[0]) if text and text.strip() else None


def _cut(row: Channel, start: float, end: float | None) -> Channel:
    """The part of a channel between two times of the timeline, from time 0 on."""
    last = row.times[-1] if end is None or end <= start else min(end, row.times[-1])
    if start <= row.times[0] + 1e-6 and last >= row.times[-1] - 1e-6:
        both = _later(row.tangents[0], row, -start), _later(row.tangents[1], row, -start)
        return replace(row, times=row.times - start, tangents=both)
    keep = (row.times >= start - 1e-6) & (row.times <= last + 1e-6)
    # What is curved between its keys is so still: it is taken often enough.
    bent = not set(row.interpolation) <= {"LINEAR", "STEP"}
    steps = np.arange(start, last, 1.0 / _CURVE_RATE) if bent and last - start < _LONGEST_S else np.empty(0)
    times = np.unique(np.concatenate([row.times[keep], steps, [start, last]]))
    times = times[np.concatenate([[True], np.diff(times) > 1e-6])]
    held = "STEP" if set(row.interpolation) == {"STEP"} else "LINEAR"
    kinds = [held] * len(times)
    return replace(row, times=times - start, values=row.sampled(times), interpolation=kinds, tangents=(None, None))


def _later(tangents: Floats | None, row: Channel, seconds: float) -> Floats | None:
    """Tangents whose handles have times of their own, with those shifted."""
    if tangents is None or tangents.shape[1] != 2 * row.values.shape[1]:
        return tangents
    shifted = tangents.copy()
    shifted[:, 0::2] += seconds
    return shifted


def _channels(library: Library, animation: Tag) -> list[Channel]:
    samplers = {one.get("id"): one for one in all_below(animation, "sampler")}
    out = []
    for tag in all_below(animation, "channel"):
        sampler = samplers.get((tag.get("source") or "").strip().removeprefix("#"))
        if sampler is None:
            problem = f"it names the sampler {tag.get('source')!r}, which is not there"
            raise InputError(problem, place=tag.place, remedy=_AGAIN)
        inputs = {one.semantic: one for one in library.inputs(sampler)}
        if "INPUT" not in inputs or "OUTPUT" not in inputs:
            raise InputError("it has no input, or no output", place=sampler.place, remedy=_AGAIN)
        tables = {
            name: library.numbers(library.at(one.tag, one.source, "source"))
            for name, one in inputs.items()
            if name in ("INPUT", "OUTPUT", "IN_TANGENT", "OUT_TANGENT")
        }
        times, values = tables["INPUT"][:, 0], tables["OUTPUT"]
        if len(times) != len(values) or not len(times):
            problem = f"it has {len(times)} times and {len(values)} values"
            raise InputError(problem, place=sampler.place, remedy=_AGAIN)
        kinds = ["LINEAR"] * len(times)
        if "INTERPOLATION" in inputs:
            words = library.words(library.at(sampler, inputs["INTERPOLATION"].source, "source"))
            kinds = [*words, *kinds][: len(times)]
        order = np.argsort(times, kind="stable")
        both = tuple(
            tables[name][order] if name in tables and len(tables[name]) == len(times) else None
            for name in ("IN_TANGENT", "OUT_TANGENT")
        )
        mixed = bool(np.any(np.diff(times) < 0))
        kinds = [kinds[i] for i in order]
        out.append(Channel(*_target(tag), times[order], values[order], kinds, (both[0], both[1]), tag, mixed))
    return out


def _target(tag: Tag) -> tuple[str, str, int | None]:
    """Whose what is moved: the id, the step's sid, and which of its numbers (None for all).

    ``Hips/rotateX.ANGLE``, ``Hips/matrix(3)(0)``, ``Face-weights(2)`` (COLLADA 1.4.1, address syntax).
    """
    owner, _, step = (tag.get("target") or "").strip().rpartition("/")
    owner = owner.partition("/")[0] or step
    path, *cells = re.split(r"[()]+", step.rstrip(")"))
    if cells:
        numbers = [int(cell) for cell in cells if cell.isdecimal() and len(cell) < 6]
        member = -1 if len(numbers) != len(cells) else numbers[0] if len(numbers) == 1 else numbers[1] + 4 * numbers[0]
        return (path if owner == step else owner), path, member
    path, _, name = step.rpartition(".")
    return (owner, path, _MEMBERS.get(name.upper(), -1)) if path else (owner, name, None)


Moved = tuple[int, str, Floats, Floats, str]


def keys_of_clip(
    library: Library,
    name: str,
    rows: Sequence[Channel],
    by_target: Mapping[str, Sequence[tuple[int, Placed]]],
    morphs: Mapping[str, tuple[int, Floats]],
    file_bytes: int,
) -> list[Moved]:
    """The keys of a clip as a glTF animation has them: places, turns and sizes of nodes, weights of meshes.

    Parameters
    ----------
    by_target : mapping
        The placed nodes of an id, with their numbers in the scene.
    morphs : mapping
        By the id of the source of a morph's weights: the node of the mesh, and the weights at rest.
    """
    nodes: dict[str, list[Channel]] = {}
    weights: dict[str, list[Channel]] = {}
    for row in rows:
        if row.owner in by_target:
            nodes.setdefault(row.owner, []).append(row)
        elif row.owner in morphs or row.step in morphs:
            weights.setdefault(row.owner if row.owner in morphs else row.step, []).append(row)
    moved: list[Moved] = []
    grid = _even_grid([row.times for owned in nodes.values() for row in owned])
    numbers = 0
    for owner, own in nodes.items():
        for number, placed in by_target[owner]:
            changed, times = _steps_over_time(placed, own, grid)
            if not changed:
                continue
            numbers += 16 * len(times) * max(len(placed.steps), 1)
            if numbers > clip_numbers(file_bytes) * 4:
                problem = f"its keys span {len(times)} frames, too many for a file of this size"
                raise InputError(problem, place=f"clip {name!r}", remedy="Cut it before exporting, or lower its rate")
            matrices = placed.matrices(changed, len(times))
            rest = placed.matrices()
            places, turns, sizes = trs_from_matrices(np.concatenate([rest, matrices]))
            moved.append((number, "rotation", times, turns[1:], "LINEAR"))
            if np.abs(places[1:] - places[0]).max() > 1e-7 * max(1.0, float(np.abs(places).max())):
                moved.append((number, "translation", times, places[1:], "LINEAR"))
            if np.abs(sizes[1:] - sizes[0]).max() > 1e-5:
                moved.append((number, "scale", times, sizes[1:], "LINEAR"))
    for source, own in weights.items():
        number, rest = morphs[source]
        times = np.unique(np.concatenate([row.times for row in own]))
        values = np.tile(rest, (len(times), 1))
        for row in own:
            if row.member is None and row.values.shape[1] == len(rest):
                values = row.sampled(times)
            elif row.member is not None and 0 <= row.member < len(rest):
                values[:, row.member] = row.sampled(times)[:, 0]
        moved.append((number, "weights", times, values, "LINEAR"))
    carried = {id(row) for own in weights.values() for row in own}
    for owner, own in nodes.items():
        steps = [placed for _, placed in by_target[owner]]
        carried |= {id(row) for row in own if any(at.step_of(row.step, row.whole_width) is not None for at in steps)}
    mixed = sum(row.mixed for row in rows)
    if mixed:
        library.findings.append(keys_put_in_order(name, mixed))
    unknown = sorted({f"{row.owner}/{row.step}".rstrip("/") for row in rows if id(row) not in carried})
    if unknown:
        message = f"it moves {len(unknown)} things that no figure has ({', '.join(unknown[:3])}); left out"
        library.findings.append(Finding("channels-left-out", "note", name, message))
    return moved


def _steps_over_time(placed: Placed, rows: Sequence[Channel], grid: Floats) -> tuple[dict[int, Floats], Floats]:
    """The numbers of a node's changed steps over time, and the times: of their keys, or of every frame."""
    steps = [(placed.step_of(row.step, row.whole_width), row) for row in rows]
    used = [(index, row) for index, row in steps if index is not None]
    whole = all(placed.steps[index][1] == "matrix" and row.member is None for index, row in used)
    plain = all(set(row.interpolation) <= {"LINEAR", "STEP"} for _, row in used)
    times = np.unique(np.concatenate([row.times for _, row in used])) if used else grid
    # A matrix in a straight line between two keys is a turn that way; all else is taken at each frame.
    if not (whole and plain) and len(times) > 1:
        inside = grid[(grid > times[0] - 1e-6) & (grid < times[-1] + 1e-6)]
        times = inside if len(inside) > 1 else times
    changed: dict[int, Floats] = {}
    for index, row in used:
        width = len(placed.steps[index][2])
        values = changed.setdefault(index, np.tile(placed.steps[index][2], (len(times), 1)))
        sampled = row.sampled(times)
        if row.member is None and sampled.shape[1] == width:
            values[:] = sampled
        elif row.member is not None and 0 <= row.member < width:
            values[:, row.member] = sampled[:, 0]
        else:
            raise InputError(f"it has {sampled.shape[1]} numbers for a step of {width}", place=row.tag.place)
    return changed, times


def _even_grid(tracks: Sequence[Floats]) -> Floats:
    """Every frame from the first to the last key: at the rate they were made at, if they show one."""
    if not tracks:
        return np.zeros(1)
    times = np.unique(np.concatenate(tracks))
    times = times[np.concatenate([[True], np.diff(times) > 2e-5])]
    if len(times) < 2:
        return times
    rate = rate_of_times(times - times[0])
    least = float(rate) if rate else _LEAST_RATE
    while least < _LEAST_RATE - 6.5:  # 24 a second is a rate of its own
        least *= 2.0
    frames = min(round((times[-1] - times[0]) * least), 4_000_000)
    return times[0] + np.arange(frames + 1) / least
