"""Animations turned into clips: keys of unequal times, three kinds of interpolation, onto one exact rate."""

from __future__ import annotations

import re
from fractions import Fraction

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.accessors import floats_from_accessor, item
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.schema import Animation, Document, Target
from fairswap.model.arrays import Floats
from fairswap.model.rate import rate_from_interval
from fairswap.model.rotation import normalized, slerp
from fairswap.wording import counted, listed

_WIDTHS = {"rotation": 4, "translation": 3, "scale": 3}
_MOST_FRAMES = 4_000_000
_LATEST_S = 1e6
_ODD_KEYS_RATE = 60
# Before the pointer, in the paths of what an animation moves that is no node.
POINTER = "pointer:"
_NODE_POINTER = re.compile(r"/nodes/(\d{1,9})/(rotation|translation|scale|weights)")
_AGAIN = "Export the file again"


class Keys:
    """The keys of one channel: times ``(n,)`` in seconds, values ``(n, width)``, tangents for cubic splines.

    ``mended`` says what was wrong with them in the file.
    """

    def __init__(self, times: Floats, values: Floats, interpolation: str, mended: str = "") -> None:
        self.times = times
        self.interpolation = interpolation
        self.mended = mended
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
                keys = _keys(times, pointed[:, None], sampler.interpolation, rotation=False)
                found |= {(node, path): keys} if keys is not None else {}
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
        raw = floats_from_accessor(container, sampler.output, place, None if path == "weights" else width, gaps=True)
        per_key = width * (3 if sampler.interpolation == "CUBICSPLINE" else 1)
        if raw.size != len(times) * per_key:
            problem = f"it has {len(times)} keys, but {raw.size} numbers where {len(times) * per_key} are needed"
            raise InputError(problem, place=place, remedy=_AGAIN)
        keys = _keys(times, raw.reshape(len(times), -1, width), sampler.interpolation, path == "rotation")
        if keys is None:
            raise InputError("none of its keys has a value", place=place, remedy=_AGAIN)
        found[node, path] = _fuller(found[node, path], keys) if (node, path) in found else keys
    return found


def _keys(times: Floats, values: Floats, interpolation: str, rotation: bool) -> Keys | None:
    """Keys in the order of time, without those that hold no value; None if none does.

    ``values (n, 1 or 3, width)`` has the tangents of a spline before and after.
    """
    mended = []
    if np.any(np.diff(times) < 0):
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
        mended.append("its keys were not in the order of time")
    held = np.asarray(np.isfinite(values).all(axis=(1, 2)))
    if rotation:
        held = held & np.any(values[:, values.shape[1] // 2], axis=1)
    if not held.all():
        if not held.any():
            return None
        mended.append(f"{(~held).sum()} of its {len(held)} keys hold no value; filled from their neighbours")
        times, values = times[held], values[held]
    return Keys(times, values.reshape(-1, values.shape[2]), interpolation, "; ".join(mended))


def said_of_mended(keys: dict[tuple[int, str], Keys], document: Document, name: str) -> Finding | None:
    """One finding for all the channels of the clip ``name`` whose keys were mended."""
    rows = [
        f"{path if node < 0 else f'{path} of {document.nodes[node].name or node}'} ({track.mended})"
        for (node, path), track in keys.items()
        if track.mended
    ]
    if not rows:
        return None
    message = f"keys that no program can play as they stand were mended: {listed(rows, 2)}"
    return Finding("keys-mended", "warning", name, message)


def keys_put_in_order(name: str, tracks: int) -> Finding:
    """What is said of a clip of another format, so many tracks of which had keys that were not in the order of time."""
    message = f"keys of {counted(tracks, 'track')} were not in the order of time; they were put in order"
    return Finding("keys-mended", "warning", name, message)


def _fuller(first: Keys, second: Keys) -> Keys:
    """Of two channels that move the same, the one with more keys."""
    used = second if len(second.times) > len(first.times) else first
    counts = f"{len(first.times)} and {len(second.times)} keys"
    told = f"two channels move it, with {counts}; the {'first' if used is first else 'second'} is used"
    used.mended = f"{told}; {used.mended}" if used.mended else told
    return used


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
    elif start < -1e-4:
        message = f"its first key is at {start:.3f} s, before the beginning; moved to begin at 0"
        findings.append(Finding("keys-mended", "note", name, message))
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
    furthest = float(np.abs(times).max())
    if furthest > _LATEST_S:
        raise InputError(f"a key lies {furthest:.3g} s from the beginning", place=place, remedy=_AGAIN)
    return times
