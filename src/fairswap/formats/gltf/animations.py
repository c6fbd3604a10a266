"""Animations turned into clips: keys of unequal times, three kinds of interpolation, onto one exact rate."""

from __future__ import annotations

import re
from fractions import Fraction

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.accessors import floats_from_accessor, item
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.schema import Animation, Target
from fairswap.model.arrays import Floats
from fairswap.model.rate import rate_from_interval
from fairswap.model.rotation import normalized, slerp

_WIDTHS = {"rotation": 4, "translation": 3, "scale": 3}
_MOST_FRAMES = 4_000_000
_ODD_KEYS_RATE = 60
# Before the pointer, in the paths of what an animation moves that is no node.
POINTER = "pointer:"
_NODE_POINTER = re.compile(r"/nodes/(\d{1,9})/(rotation|translation|scale|weights)")
_AGAIN = "Export the file again"


class Keys:
    """The keys of one channel: times ``(n,)`` in seconds, values ``(n, width)``, tangents for cubic splines."""

    def __init__(self, times: Floats, values: Floats, interpolation: str) -> None:
        self.times = times
        self.interpolation = interpolation
        self.tangents_in = self.tangents_out = None
        if interpolation == "CUBICSPLINE":
            values = values.reshape(len(times), 3, -1)
            self.tangents_in, values, self.tangents_out = values[:, 0], values[:, 1], values[:, 2]
        self.values = values

    def sampled(self, times: Floats, rotation: bool) -> Floats:
        """Values ``(frames, width)`` at ``times``, held before the first and after the last key (glTF 2.0, C)."""
        if rotation and self.interpolation != "CUBICSPLINE":
            self.values = normalized(self.values)
        if len(self.times) == 1:
            return np.broadcast_to(
                normalized(self.values) if rotation else self.values, (len(times), self.values.shape[1])
            )
        # Keys written one per frame are the rule: nothing to interpolate.
        if len(times) == len(self.times) and self.tangents_in is None and np.abs(times - self.times).max() < 1e-4:
            return self.values
        # A key a hair beside its frame, by the rounding of the file, counts as on it.
        inside = np.clip(times, self.times[0], self.times[-1])
        before = np.clip(np.searchsorted(self.times, inside + 1e-5, side="right") - 1, 0, len(self.times) - 2)
        step = self.times[before + 1] - self.times[before]
        fraction = np.clip((inside - self.times[before]) / np.where(step > 0, step, 1.0), 0.0, 1.0)
        fraction = np.where(inside >= self.times[-1] - 1e-5, 1.0, fraction)
        first, second = self.values[before], self.values[before + 1]
        if self.interpolation == "STEP":
            return np.where(fraction[:, None] >= 1.0, second, first)
        if self.tangents_in is not None and self.tangents_out is not None:
            t, dt = fraction[:, None], step[:, None]
            out = (
                (2 * t**3 - 3 * t**2 + 1) * first
                + (t**3 - 2 * t**2 + t) * dt * self.tangents_out[before]
                + (-2 * t**3 + 3 * t**2) * second
                + (t**3 - t**2) * dt * self.tangents_in[before + 1]
            )
            return normalized(out) if rotation else out
        return slerp(first, second, fraction) if rotation else first + (second - first) * fraction[:, None]


def keys_of_animation(container: Container, index: int, weights_width: dict[int, int]) -> dict[tuple[int, str], Keys]:
    """The keys of every channel, by node and path. ``weights_width`` is the number of morph targets by node."""
    animation: Animation = container.document.animations[index]
    times_read: dict[int, Floats] = {}
    found: dict[tuple[int, str], Keys] = {}
    for number, channel in enumerate(animation.channels):
        place = f"animations[{index}].channels[{number}]"
        sampler = item(animation.samplers, channel.sampler, "sampler", place)
        node, path = _target(channel.target)
        if node is None:
            continue
        if path.startswith(POINTER):
            pointed = floats_from_accessor(container, sampler.output, place, None)
            if sampler.input not in times_read:
                times_read[sampler.input] = _times(container, sampler.input, place)
            times = times_read[sampler.input]
            if sampler.interpolation in ("LINEAR", "STEP") and len(pointed) == len(times):
                found[node, path] = Keys(times, pointed, sampler.interpolation)
            continue
        item(container.document.nodes, node, "node", place)
        if path not in (*_WIDTHS, "weights"):
            raise InputError(f"it targets {path!r}", place=place, remedy=_AGAIN)
        if sampler.interpolation not in ("LINEAR", "STEP", "CUBICSPLINE"):
            raise InputError(f"its interpolation is {sampler.interpolation!r}", place=place, remedy=_AGAIN)
        if sampler.input not in times_read:
            times_read[sampler.input] = _times(container, sampler.input, place)
        times = times_read[sampler.input]
        width = _WIDTHS.get(path) or weights_width.get(node, 0)
        if not width:
            continue
        raw = floats_from_accessor(container, sampler.output, place, None if path == "weights" else width)
        per_key = width * (3 if sampler.interpolation == "CUBICSPLINE" else 1)
        if raw.size != len(times) * per_key:
            problem = f"it has {len(times)} keys, but {raw.size} numbers where {len(times) * per_key} are needed"
            raise InputError(problem, place=place, remedy=_AGAIN)
        if (node, path) in found:
            raise InputError(f"two channels move the {path} of node {node}", place=place, remedy=_AGAIN)
        values = raw.reshape(-1, width)
        held = values[1::3] if sampler.interpolation == "CUBICSPLINE" else values
        if path == "rotation" and not np.any(held, axis=1).all():
            raise InputError("a rotation key is all zeros", place=place, remedy=_AGAIN)
        found[node, path] = Keys(times, values, sampler.interpolation)
    return found


def _target(target: Target) -> tuple[int | None, str]:
    """What a channel moves: a node and its path. What a pointer names (KHR_animation_pointer) has no node, and counts
    as -1 with its pointer, unless it is a node's own transform."""
    if target.path != "pointer":
        return target.node, target.path
    pointer = target.extensions.get("KHR_animation_pointer")
    name = pointer.get("pointer") if isinstance(pointer, dict) else None
    if not isinstance(name, str):
        return None, ""
    match = _NODE_POINTER.fullmatch(name)
    return (int(match[1]), match[2]) if match else (-1, POINTER + name)


def grid_of_keys(tracks: list[Keys], name: str) -> tuple[Fraction, Floats, list[Finding]]:
    """The rate that the keys were made at, the times of the frames, and what is odd about them.

    Keys whose times were rounded on writing are set on their frames.
    """
    findings: list[Finding] = []
    distinct = {id(track.times): track.times for track in tracks}
    times = np.sort(np.concatenate(list(distinct.values())))
    times = times[np.concatenate([[True], np.diff(times) > 2e-5])]  # the same instant, rounded twice
    start, duration = float(times[0]), float(times[-1] - times[0])
    if start > 1e-4:
        message = f"its first key is at {start:.3f} s; the clip begins there, and is written so"
        findings.append(Finding("clip-starts-late", "note", name, message))
    if len(times) == 1 or duration <= 0:
        return Fraction(30), times[:1], findings
    rate = rate_of_times(times - start)
    if rate is None:
        frames = max(round(duration * _ODD_KEYS_RATE), 1)
        rate = Fraction(frames) / Fraction(duration).limit_denominator(10**6)
        message = f"its keys are at uneven times; sampled at {float(rate):.2f} frames per second"
        findings.append(Finding("uneven-keys", "note", name, message))
    frames = round(duration * float(rate)) + 1
    if frames > _MOST_FRAMES:
        raise InputError(f"it lasts {duration:.0f} s", place=f"animation {name!r}", remedy="Cut it before exporting")
    grid = start + np.arange(frames) / float(rate)
    if not findings or findings[-1].code != "uneven-keys":
        on_frames = {key: grid[np.round((own - start) * float(rate)).astype(np.intp)] for key, own in distinct.items()}
        for track in tracks:
            track.times = on_frames[id(track.times)]
    return rate, grid, findings


def rate_of_times(times: Floats) -> Fraction | None:
    """The even rate whose frames all times fall on, at least 20 a second; None if there is none."""
    # Single-precision seconds: the later, the coarser.
    error = 2e-5 + 2e-7 * times[-1]
    if np.abs(times - np.round(times, 3)).max() < 1e-6 and np.diff(times).min() > 0.004:  # in whole milliseconds
        error += 5e-4
    # The smallest step is a rough measure; over longer and longer stretches it becomes exact.
    step, reach = float(np.diff(times).min()), 1
    while reach < len(times):
        end = times[min(2 * reach, len(times) - 1)]
        step = float(end / max(round(float(end) / step), 1))
        reach *= 2
    for divisor in (1, 2, 3, 4, 5):
        interval = step / divisor
        if abs(times - np.round(times / interval) * interval).max() > max(error, 0.02 * interval):
            continue
        rate = rate_from_interval(interval)
        if abs(times - np.round(times * float(rate)) / float(rate)).max() > max(error, 0.02 * interval):
            rate = Fraction(1 / interval).limit_denominator(10**6)
        return rate * -(-20 // max(int(rate), 1)) if rate < 20 else rate if rate <= 1000 else None
    return None


def _times(container: Container, index: int, place: str) -> Floats:
    times = floats_from_accessor(container, index, place, 1)[:, 0]
    if not len(times):
        raise InputError("it has no keys", place=place, remedy=_AGAIN)
    if times[0] < 0 or np.any(np.diff(times) < 0):
        raise InputError("the times of its keys do not go forward", place=place, remedy=_AGAIN)
    return times
