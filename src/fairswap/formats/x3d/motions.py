"""Motion: time sensors, interpolators and the routes between them, as keys of nodes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.animations import keys_put_in_order
from fairswap.formats.limits import clip_numbers
from fairswap.formats.marks import RECORD
from fairswap.formats.markup import Tag
from fairswap.formats.scene.building import trs_from_matrices
from fairswap.formats.scene.decided import decided_from
from fairswap.formats.x3d.fields import kept_word, number, rows, turns_of
from fairswap.model.arrays import Floats
from fairswap.model.rotation import slerp

_AGAIN = "Export the file again"
_WIDTHS = {"OrientationInterpolator": 4, "PositionInterpolator": 3, "ScalarInterpolator": 1}
_FIELDS = {"rotation": "rotation", "translation": "translation", "scale": "scale", "weight": "weight"}
# What turns about a point beside it bends on its way: it is sampled so often.
_RATE = 30.0

Keys = tuple[int, str, Floats, Floats, str]


@dataclass(frozen=True)
class Track:
    """The keys of one field: times in seconds, values ``(n, width)`` (turns are xyzw); whether they were ``mixed`` in
    the file, not in the order of time."""

    times: Floats
    values: Floats
    mixed: bool = False

    def sampled(self, times: Floats) -> Floats:
        """Values at other times, held beyond the ends."""
        inside = np.clip(times, self.times[0], self.times[-1])
        before = np.clip(np.searchsorted(self.times, inside, side="right") - 1, 0, max(len(self.times) - 2, 0))
        after = np.minimum(before + 1, len(self.times) - 1)
        step = self.times[after] - self.times[before]
        along = np.clip((inside - self.times[before]) / np.where(step > 0.0, step, 1.0), 0.0, 1.0)
        first, second = self.values[before], self.values[after]
        if self.values.shape[1] == 4:
            return slerp(first, second, along)
        return first + (second - first) * along[:, None]


@dataclass(frozen=True)
class Mover:
    """What a node makes of its moved fields: local matrices ``(n, 4, 4)`` from rows of fields by name, and whether
    turn, place and size do not depend on each other, so that the keys can stay as they are."""

    matrices: Callable[[Mapping[str, Floats], int], Floats]
    apart: bool


class NamedClip(NamedTuple):
    """A clip as the scene has it: its name, the track of each (node, field), and what it brings along about how it
    was made."""

    name: str
    tracks: dict[tuple[str, str], Track]
    made: Mapping[str, Any] | None


def clips_of(root: Tag, by_name: Mapping[str, Tag], file_bytes: int) -> list[NamedClip]:
    """The clips: one for each time sensor that moves something."""
    routes = [tag for tag in root.iter("ROUTE") if isinstance(tag, Tag)]
    onward: dict[str, list[Tag]] = {}
    for route in routes:
        onward.setdefault(route.get("fromNode") or "", []).append(route)
    clips = []
    for name, sensor in by_name.items():
        if sensor.tag != "TimeSensor":
            continue
        seconds = number(sensor, "cycleInterval", 1.0)
        if not 0.0 < seconds < 1e6:
            raise InputError(f"its cycle lasts {seconds:g} s", place=sensor.place, remedy=_AGAIN)
        tracks: dict[tuple[str, str], Track] = {}
        for first in onward.get(name, ()):
            between = by_name.get(first.get("toNode") or "")
            if between is None or between.tag not in _WIDTHS:
                continue
            track = _track(between, seconds, file_bytes)
            for second in onward.get(first.get("toNode") or "", ()):
                field = (second.get("toField") or "").removeprefix("set_").removesuffix("_changed")
                if track is not None and field in _FIELDS:
                    tracks[second.get("toNode") or "", field] = track
        if tracks:
            made = decided_from(kept_word(sensor, RECORD))
            clips.append(NamedClip(sensor.get("description") or name, tracks, made))
    return clips


def _track(tag: Tag, seconds: float, file_bytes: int) -> Track | None:
    width = _WIDTHS[tag.tag]
    times, values = rows(tag, "key", 1)[:, 0] * seconds, rows(tag, "keyValue", width)
    if not len(times):
        return None
    if len(times) != len(values):
        raise InputError(f"it has {len(times)} keys and {len(values)} values", place=tag.place, remedy=_AGAIN)
    if times.min() < 0:
        raise InputError(f"it has a key at {times.min() / seconds:g}, before its cycle", place=tag.place, remedy=_AGAIN)
    order = np.argsort(times, kind="stable")
    if values.size > clip_numbers(file_bytes):
        raise InputError(f"it has {len(times)} keys", place=tag.place, remedy=_AGAIN)
    mixed = bool(np.any(np.diff(times) < 0))
    return Track(times[order], (turns_of(values) if width == 4 else values)[order], mixed)


def keys_of_clip(
    tracks: Mapping[tuple[str, str], Track],
    nodes: Mapping[str, list[tuple[int, Mover]]],
    displaced: Mapping[str, list[tuple[int, int]]],
    resting: Mapping[int, Sequence[float]],
    name: str,
    findings: list[Finding],
) -> list[Keys]:
    """The keys of a clip: of the nodes that it moves, and of the meshes whose displacers it weighs.

    Parameters
    ----------
    displaced : mapping
        By the name of a displacer: the nodes of the meshes that have it as a morph, and which one it is.
    resting : mapping
        By the node of a mesh: the weights of its morphs at rest.
    """
    moved: list[Keys] = []
    owners = dict.fromkeys(owner for owner, _ in tracks)
    for owner in owners:
        own = {field: track for (other, field), track in tracks.items() if other == owner and field != "weight"}
        for node, mover in nodes.get(owner, ()) if own else ():
            moved += keys_of_node(node, mover, own)
    # All displacers of one mesh go together: the mesh has one track of all its weights.
    by_mesh: dict[int, dict[int, Track]] = {}
    for (owner, field), track in tracks.items():
        for node, column in displaced.get(owner, ()) if field == "weight" else ():
            by_mesh.setdefault(node, {})[column] = track
    for node, columns in by_mesh.items():
        times = np.unique(np.concatenate([track.times for track in columns.values()]))
        values = np.tile(np.array(resting[node], dtype=np.float64), (len(times), 1))
        for column, track in columns.items():
            values[:, column] = track.sampled(times)[:, 0]
        moved.append((node, "weights", times, values, "LINEAR"))
    mixed = sum(track.mixed for track in tracks.values())
    if mixed:
        findings.append(keys_put_in_order(name, mixed))
    lost = [owner for owner in owners if owner not in nodes and owner not in displaced]
    if lost:
        message = f"it moves {len(lost)} things that no figure has ({', '.join(lost[:3])}); left out"
        findings.append(Finding("channels-left-out", "note", name, message))
    return moved


def keys_of_node(node: int, mover: Mover, own: Mapping[str, Track]) -> list[Keys]:
    """The keys of a node whose fields these tracks move."""
    out: list[Keys] = []
    if mover.apart:
        for field, track in own.items():
            places, turns, sizes = trs_from_matrices(mover.matrices({field: track.values}, len(track.times)))
            values = {"translation": places, "rotation": turns, "scale": sizes}[field]
            out.append((node, field, track.times, values, "LINEAR"))
        return out
    times = np.unique(np.concatenate([track.times for track in own.values()]))
    steps = np.arange(times[0], times[-1], 1.0 / _RATE)
    times = np.unique(np.concatenate([times, steps]))
    times = times[np.concatenate([[True], np.diff(times) > 1e-5])]
    matrices = mover.matrices({field: track.sampled(times) for field, track in own.items()}, len(times))
    places, turns, sizes = trs_from_matrices(matrices)
    out = [(node, "rotation", times, turns, "LINEAR"), (node, "translation", times, places, "LINEAR")]
    return [*out, (node, "scale", times, sizes, "LINEAR")] if "scale" in own else out
