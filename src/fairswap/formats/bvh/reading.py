"""From BVH text to a skeleton and a clip in our space."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.bvh.hierarchy import Joint, parse_hierarchy
from fairswap.formats.bvh.numbers import rows_from_text
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder, Poses
from fairswap.model.posture import Posture, posture_from_positions, posture_of_file, unit_from_height
from fairswap.model.rate import rate_from_text
from fairswap.model.rotation import quaternion_from_euler
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS, Space, direction, usual_forward
from fairswap.model.words import sides_of

_AGAIN = "Export the clip again"
_MOTION = re.compile(rb"^[ \t]*MOTION[ \t]*\r?$", re.IGNORECASE | re.MULTILINE)
_FRAMES = re.compile(rb"^[ \t]*Frames[ \t]*:[ \t]*(\S*)[ \t]*\r?$", re.IGNORECASE | re.MULTILINE)
_TIME = re.compile(rb"^[ \t]*Frame[ \t]+Time[ \t]*:[ \t]*(\S*)[ \t]*\r?$", re.IGNORECASE | re.MULTILINE)
# So many frames show how a body lies or stands; a floor is at 0 to within this, of its height, and the hips of whoever
# lies flat on it are higher than this.
_LOOKED_AT, _ON_FLOOR, _LYING = 24, 0.1, 0.04


@dataclass(frozen=True, eq=False)
class BvhSource:
    """What a BVH file looked like, so that it can be written the same way; a figure with another ``skeleton`` rests
    otherwise."""

    skeleton: Skeleton
    joints: tuple[Joint, ...]
    space: Space
    frame_time: str


@dataclass(frozen=True, eq=False)
class BvhOrigin:
    """Marks an unchanged clip; see :class:`fairswap.formats.gltf.origins.GltfOrigin`."""

    source: BvhSource
    poses: Poses
    rate: Fraction

    def holds(self, clip: Clip) -> bool:
        return clip.poses is self.poses and clip.rate == self.rate


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.bvh``; see :func:`fairswap.load`."""
    motion = _MOTION.search(content)
    if motion is None:
        raise InputError("there is no line MOTION", remedy="Is it a whole BVH file? " + _AGAIN)
    findings: list[Finding] = []
    joints = parse_hierarchy(_decoded(content[: motion.start()], path.stem, findings))
    declared, frame_time, at = _header(content, motion.end())
    rate = rate_from_text(frame_time)
    channels = _all_channels(joints)
    if not channels:
        raise InputError("no joint has channels: nothing moves", remedy=_AGAIN)
    first_line = content.count(b"\n", 0, at) + 1
    rotations, positions, frames = _motion(memoryview(content)[at:], joints, len(channels), declared, first_line)
    if frames != declared:
        message = f"{declared} frames are declared, {frames} are there; those were read"
        findings.append(Finding("frames-declared", "warning", path.stem, message, _AGAIN + " if some are missing"))
    parents = np.array([joint.parent for joint in joints], dtype=np.intp)
    offsets = np.array([joint.offset for joint in joints], dtype=np.float64)
    zero = Skeleton(tuple("" for _ in parents), parents, np.tile([0.0, 0.0, 0.0, 1.0], (len(parents), 1)), offsets)
    _resolve_positions(joints, zero, rotations, positions, path.stem, findings)
    space, posture = _space(joints, zero, rotations, positions, unit, up, path.stem, findings)
    own_height = _rests_where_it_plays(zero, rotations, positions, direction(space.up))
    skeleton = _skeleton(joints, parents, offsets, positions, posture, space, own_height, path.stem, findings)
    _into_our_space(space, rotations, positions)
    poses = PoseBuilder(skeleton, rotations, positions).poses()
    source = BvhSource(skeleton, tuple(joints), space, frame_time)
    keyed = frozenset(joint for joint, _, _ in channels)
    clip = Clip(path.stem, rate, poses, keyed, BvhOrigin(source, poses, rate))
    figure = Figure(path.stem, skeleton, (), space, source)
    return Document(str(path), "BVH", space, (figure,), (clip,), tuple(findings))


def _decoded(head: bytes, name: str, findings: list[Finding]) -> str:
    try:
        return head.decode("utf-8-sig")
    except UnicodeDecodeError:
        message = "the names are not UTF-8; read as Latin-1, letters with accents may be wrong"
        findings.append(Finding("encoding", "note", name, message))
        return head.decode("latin-1")


def _header(content: bytes, start: int) -> tuple[int, str, int]:
    """Declared frames, the frame time as written, and where the numbers begin."""
    frames = _FRAMES.search(content, start, start + 4096)
    time = _TIME.search(content, start, start + 4096)
    if frames is None or time is None:
        missing = "Frames:" if frames is None else "Frame Time:"
        raise InputError(f"there is no {missing!r} after MOTION", place="MOTION", remedy=_AGAIN)
    count, seconds = frames[1].decode("ascii", "replace"), time[1].decode("ascii", "replace")
    if not re.fullmatch(r"\d{1,9}", count) or int(count) < 1:
        raise InputError(f"Frames is {count[:40]!r}", place="MOTION", remedy=_AGAIN)
    if not re.fullmatch(r"\+?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?", seconds) or not 1e-5 < float(seconds) < 1e4:
        problem = f"Frame Time is {seconds[:40]!r}, it must be seconds above zero"
        raise InputError(problem, place="MOTION", remedy="Set it to 0.0333333 for 30 frames per second, say")
    return int(count), seconds.lstrip("+"), max(frames.end(), time.end())


def _motion(
    body: memoryview, joints: list[Joint], columns: int, declared: int, first_line: int
) -> tuple[Floats, dict[int, Floats], int]:
    """Rotation tracks and position channels of all frames, still in the file's axes and unit, block by block."""
    # Every number takes two characters at least: a declared count beyond that is no reason to ask for memory.
    room = min(declared, len(body) // (2 * columns) + 1)
    rotations = np.empty((len(joints), 4, room))
    positions = {
        index: np.empty((3, room))
        for index, joint in enumerate(joints)
        if any(kind == "P" for kind, _ in joint.channels)
    }
    plans = _channel_plans(joints)
    at = 0
    for block in rows_from_text(body, columns, first_line):
        if block.ndim == 1:  # numbers left over: an unfinished frame
            break
        rows = min(len(block), room - at)
        span = slice(at, at + rows)
        values = np.ascontiguousarray(block[:rows].T)
        for order, members, channels in plans:
            angles = np.radians(values[channels]).transpose(0, 2, 1)  # (joints, frames, turns)
            rotations[members, :, span] = quaternion_from_euler(angles, order).transpose(0, 2, 1)
        for index, track in positions.items():
            track[:, span] = np.array(joints[index].offset)[:, None]
        for column, (index, kind, axis) in enumerate(_all_channels(joints)):
            if kind == "P":
                positions[index]["XYZ".index(axis), span] = values[column]
        at += rows
        if at == room:
            break
    if at == 0:
        raise InputError("there is no whole frame in it", place="MOTION", remedy=_AGAIN)
    if at < room:
        return rotations[:, :, :at].copy(), {index: track[:, :at].copy() for index, track in positions.items()}, at
    return rotations, positions, at


def _all_channels(joints: list[Joint]) -> list[tuple[int, str, str]]:
    return [(index, *channel) for index, joint in enumerate(joints) for channel in joint.channels]


def _channel_plans(joints: list[Joint]) -> list[tuple[str, list[int], Integers]]:
    """Joints that turn in the same order, with the columns ``(joints, turns)`` of their turns: done together."""
    groups: dict[str, list[tuple[int, list[int]]]] = {}
    turns: dict[int, list[tuple[int, str]]] = {index: [] for index in range(len(joints))}
    for column, (index, kind, axis) in enumerate(_all_channels(joints)):
        if kind == "R":
            turns[index].append((column, axis))
    for index, own in turns.items():
        order = "".join(axis for _, axis in own)
        groups.setdefault(order, []).append((index, [column for column, _ in own]))
    return [
        (
            order,
            [index for index, _ in members],
            np.array([own for _, own in members], dtype=np.intp).reshape(len(members), -1),
        )
        for order, members in groups.items()
    ]


def _resolve_positions(
    joints: list[Joint], zero: Skeleton, rotations: Floats, positions: dict[int, Floats], name: str,
    findings: list[Finding],
) -> None:  # fmt: skip
    """Position channels mostly replace the OFFSET; some programs add them to it. The values tell which."""
    for index, track in positions.items():
        middle = np.sort(track, axis=1)[:, track.shape[1] // 2]
        offset = zero.rest_translations[index]
        given = [kind == "P" for kind, _ in joints[index].channels].count(True) == 3
        if given and np.linalg.norm(offset) > 0 and 2.0 * np.linalg.norm(middle) < np.linalg.norm(middle - offset):
            if zero.parents[index] < 0 and _lies_on_its_floor(zero, rotations, positions, offset):
                continue
            track += offset[:, None]
            message = f"positions of {joints[index].name!r} are relative to its OFFSET; added to it"
            findings.append(Finding("relative-positions", "note", name, message))


def _lies_on_its_floor(zero: Skeleton, rotations: Floats, positions: dict[int, Floats], offset: Floats) -> bool:
    """Whether a body comes as low as it does at rest, with its root far below the OFFSET: it lies, crawls or sits."""
    height = float(np.linalg.norm(offset))
    along = offset / height
    lowest = float((_places(zero, rotations, positions) @ along).min())
    floor = float((zero.rest.positions[0] @ along).min())
    return abs(lowest - floor) < abs(lowest + height - floor)


def _places(zero: Skeleton, rotations: Floats, positions: dict[int, Floats]) -> Floats:
    """Where the joints are in some frames across the clip, first and last among them: ``(frames, joints, 3)``."""
    some = frames_across(rotations.shape[2], _LOOKED_AT)
    moved = {bone: track[:, some] for bone, track in positions.items()}
    return PoseBuilder(zero, rotations[:, :, some], moved).poses().world().positions


def _space(
    joints: list[Joint],
    zero: Skeleton,
    rotations: Floats,
    positions: dict[int, Floats],
    unit: str | None,
    up: str | None,
    name: str,
    findings: list[Finding],
) -> tuple[Space, Posture | None]:
    """Unit, up and forward: from the rest pose, or from the frames where that says nothing or something else."""
    parents = zero.parents
    places = _places(zero, rotations, positions)
    counts, sides = ~_spare(parents, rotations), sides_of(joint.name for joint in joints)
    rest, *shown = (
        posture_from_positions(each, parents, counts, sides)
        for each in (zero.rest.positions[0], *places[[0, len(places) // 2, -1]])
    )
    seen = [found for found in shown if found]
    if rest and seen and _is_on_floor(places, rest) and not _is_on_floor(places, seen[0]):
        seen = []  # whoever lies or crawls all the time is no sign of other axes
    posture, where = posture_of_file(rest, seen, None)
    found_up = up or (posture.up if posture else "+Y")
    forward = posture.forward if posture and posture.up == found_up else usual_forward(found_up)
    height = posture.height if posture else float(np.ptp(zero.rest.positions[0], axis=0).max())
    space = Space(found_up, forward, unit or unit_from_height(height))
    if posture is None:
        message = f"no body with two legs was recognised; taken as {space}"
        findings.append(Finding("space-guessed", "warning", name, message))
    else:
        size = height * space.metres
        message = f"{space}: {posture.reason} ({where}), and the bones are {height:.4g} high, {size:.2f} m"
        findings.append(Finding("space-found", "note", name, message))
    return space, posture


def _is_on_floor(places: Floats, posture: Posture) -> bool:
    """Whether the clip, if that is up, has its floor at 0, where recordings have it, and the root above that."""
    high = places @ direction(posture.up) / posture.height
    return abs(float(high.min())) < _ON_FLOOR and float(np.median(high[:, 0])) > _LYING


def _rests_where_it_plays(zero: Skeleton, rotations: Floats, positions: dict[int, Floats], up: Floats) -> bool:
    """Whether the roots have resting heights that count from the same floor as the clip, wherever that is."""
    rest = zero.rest.positions[0] @ up
    tall = float(np.ptp(rest))
    lowest = float(np.median((_places(zero, rotations, positions) @ up).min(axis=1)))
    return bool(np.abs(rest[zero.parents < 0]).max() > 1e-3 * tall) and abs(lowest - float(rest.min())) < 0.1 * tall


def _spare(parents: Integers, rotations: Floats) -> np.ndarray:
    """Which joints ``(joints,)`` are sockets, mostly: small branches that never turn beside others that do."""
    turns = np.ptp(rotations, axis=2).max(axis=1) > 1e-6
    size = np.ones(len(parents), dtype=np.intp)
    for joint in range(len(parents) - 1, 0, -1):
        if parents[joint] >= 0:
            turns[parents[joint]] |= turns[joint]
            size[parents[joint]] += size[joint]
    beside = np.zeros(len(parents), dtype=bool)  # of each joint, whether something below it turns
    beside[parents[1:][turns[1:]]] = True
    spare = np.zeros(len(parents), dtype=bool)
    for joint, parent in enumerate(parents.tolist()):
        if parent >= 0:
            spare[joint] = spare[parent] or (not turns[joint] and beside[parent] and size[joint] <= 2)
    return spare


def _skeleton(
    joints: list[Joint],
    parents: Integers,
    offsets: Floats,
    positions: dict[int, Floats],
    posture: Posture | None,
    space: Space,
    own_height: bool,
    name: str,
    findings: list[Finding],
) -> Skeleton:
    """The rest skeleton in our space; a root without a resting height of its own is stood on the floor."""
    rest = (offsets @ space.turn.T) * space.metres
    identity = np.tile([0.0, 0.0, 0.0, 1.0], (len(joints), 1))
    names = tuple(joint.name for joint in joints)
    ends = frozenset(index for index, joint in enumerate(joints) if joint.end)
    skeleton = Skeleton(names, parents, identity, rest, ends)
    world = skeleton.rest.positions[0]
    lowest, tall = float(world[:, 1].min()), float(np.ptp(world[:, 1]))
    if posture is not None and posture.up == space.up and abs(lowest) > 0.1 * tall and not own_height:
        lifted = rest.copy()
        lifted[parents < 0, 1] -= lowest
        message = f"the root has no resting height of its own; stood on its lowest bone, {-lowest:.2f} m lower"
        findings.append(Finding("rest-height", "note", name, message))
        return Skeleton(names, parents, identity, lifted, ends)
    if posture is None and 0 in positions and not own_height:
        lifted = rest.copy()
        lifted[0] = (space.turn @ positions[0][:, 0]) * space.metres
        lifted[0, [0, 2]] = 0.0
        return Skeleton(names, parents, identity, lifted, ends)
    return skeleton


def _into_our_space(space: Space, rotations: Floats, positions: dict[int, Floats]) -> None:
    """Turn rotations and positions in place; a rotation about a file axis is the same about ours."""
    if space.up != OURS.up or space.forward != OURS.forward:
        # The vector part turns with the axes, the scalar stays: turn * q * turn⁻¹.
        for bone in range(len(rotations)):
            rotations[bone, :3] = space.turn @ rotations[bone, :3]
    for track in positions.values():
        track[:] = (space.turn @ track) * space.metres
