"""From a skeleton and a clip to BVH text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction

import numpy as np

from fairswap.errors import Finding, UsageError
from fairswap.formats.bvh.hierarchy import Joint
from fairswap.formats.bvh.numbers import text_from_rows
from fairswap.formats.bvh.reading import BvhOrigin, BvhSource
from fairswap.formats.naming import on_one_line
from fairswap.formats.scene.losses import losses
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, euler_from_quaternion, multiply, normalized, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import Space
from fairswap.model.tips import axis_onward, skin_of_bones, tip_of

_FRAMES_AT_ONCE = 2048
# A fingertip, shorter than this in heights, goes on as its bone does if its skin ends within 35 degrees of that.
_FINGERTIP, _ALONG = 0.03, 0.82
# Skin is on the floor that is no higher over it than this, in heights.
_ON_FLOOR = 0.005


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, Iterator[bytes]]:
    """One clip as ``.bvh``; see :func:`fairswap.formats.files.encode`."""
    if len(clips) != 1:
        raise UsageError(
            f"a BVH file holds one clip, not {len(clips)}",
            code="one-clip-only",
        )
    return {name: _chunks(figure, clips[0], space or figure.space)}


def by_bones_alone(figure: Figure) -> bool:
    """Whether the bones have to tell what a mesh would; what came from such a file goes back as it was."""
    return not isinstance(figure.source, BvhSource)


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold."""
    return losses(figure, clips, "BVH", meshes=False)


def _chunks(figure: Figure, clip: Clip, space: Space) -> Iterator[bytes]:
    skeleton, source = clip.skeleton, figure.source
    layout = _layout(skeleton, clip, source)
    rest = skeleton.rest
    # In this format every joint is unturned at rest. Ours may be turned; what remains is the turn from the rest pose.
    rest_rotations = rest.rotation_tracks[:, :, 0]
    places = (rest.position_tracks[:, :, 0] @ space.turn) / space.metres
    offsets = np.where(skeleton.parents[:, None] >= 0, places - places[skeleton.parents], places)
    if isinstance(source, BvhSource) and figure.skeleton == source.skeleton:
        # As they stood: a root stood on the floor by us goes back to where it was.
        offsets = np.array([joint.offset for joint in source.joints])
    yield _hierarchy(layout, offsets, (_tips(figure, skeleton) @ space.turn) / space.metres)
    unchanged = isinstance(clip.origin, BvhOrigin) and clip.origin.holds(clip)
    time = source.frame_time if unchanged and isinstance(source, BvhSource) else _time_text(clip.rate)
    yield f"MOTION\nFrames: {clip.frames}\nFrame Time: {time}\n".encode()
    for start in range(0, clip.frames, _FRAMES_AT_ONCE):
        yield text_from_rows(_rows(skeleton, clip, layout, rest_rotations, space, start))


def _tips(figure: Figure, skeleton: Skeleton) -> Floats:
    """From each last bone to where its skin ends ``(bones, 3)``, zero where nothing says how long the bone is."""
    out = np.zeros((len(skeleton), 3))
    if figure.skeleton != skeleton:
        return out
    places = skeleton.rest.positions[0]
    for bone, skin in skin_of_bones(figure).items():
        if skeleton.children[bone]:
            continue
        tip = tip_of(skin, places[bone], figure.height_m)
        low = skin[skin[:, 1] < figure.floor_m + _ON_FLOOR * figure.height_m]
        if tip is not None and len(low):
            tip = _end_of_sole(low, places[bone], tip)
        out[bone] = _end_of(skeleton, bone, skin, tip, _FINGERTIP * figure.height_m)
    return out


def _end_of_sole(low: Floats, ankle: Floats, tip: Floats) -> Floats:
    """Where the sole, whose vertices are ``low``, leaves the floor: a foot rolls on that, not on the tip of a shoe."""
    ahead = (tip - ankle) * [1.0, 0.0, 1.0]
    length = float(np.linalg.norm(ahead))
    if length < 1e-6:
        return tip
    reach = float(((low - ankle) @ ahead).max()) / length
    return ankle * [1.0, 0.0, 1.0] + ahead * (reach / length) + [0.0, float(low[:, 1].min()), 0.0]


def _end_of(skeleton: Skeleton, bone: int, skin: Floats, tip: Floats | None, most: float) -> Floats:
    """From a last bone to its end ``(3,)``: where its skin ends, but of a fingertip, shorter than ``most``, on the way
    that its bone goes on, whatever its nail."""
    rest, parent, onward = skeleton.rest, int(skeleton.parents[bone]), axis_onward(skeleton, bone)
    place = rest.positions[0, bone]
    if parent < 0 or (tip is None and onward is None):
        return np.zeros(3) if tip is None else tip - place
    straight = place - rest.positions[0, parent]
    way = normalized(straight) if onward is None else rotate(rest.rotations[0, bone], onward)
    if tip is None:  # a stub, with skin all around
        return way * max(float(((skin - place) @ way).max()), 0.0)
    length, along = float(np.linalg.norm(tip - place)), float((tip - place) @ way)
    return along * way if length < most and along > _ALONG * length else tip - place


def _layout(skeleton: Skeleton, clip: Clip, source: object) -> list[Joint]:
    """The joints with their channels: as the file had them if it can say what the clip holds, else ours."""
    moved = set(clip.poses.translated_bones.tolist())
    unchanged = isinstance(clip.origin, BvhOrigin) and clip.origin.holds(clip)
    old = source.joints if isinstance(source, BvhSource) else None
    joints = []
    for bone, name in enumerate(skeleton.names):
        end = bone in skeleton.ends and not skeleton.children[bone]
        channels: list[tuple[str, str]] = []
        if old is not None and (unchanged or _says_all(old[bone], bone in moved)):
            channels = list(old[bone].channels)
        elif not end:
            channels = [("P", axis) for axis in "XYZ"] if bone in moved or skeleton.parents[bone] < 0 else []
            channels += [("R", axis) for axis in "ZXY"]
        named = old[bone].named if old is not None else True
        joints.append(Joint(name, int(skeleton.parents[bone]), end, named, channels=channels))
    return joints


def _says_all(joint: Joint, moved: bool) -> bool:
    turns = [axis for kind, axis in joint.channels if kind == "R"]
    places = [axis for kind, axis in joint.channels if kind == "P"]
    return joint.end or (len(set(turns)) == len(turns) == 3 and len(places) >= (3 if moved else 0))


def _as_written(joints: list[Joint]) -> list[int]:
    """The joints in the order of the text, in which the values of a frame stand, too: each limb to its end."""
    children = _children(joints)
    found, stack = [], [index for index in reversed(range(len(joints))) if joints[index].parent < 0]
    while stack:
        found.append(stack.pop())
        stack += reversed(children[found[-1]])
    return found


def _children(joints: list[Joint]) -> list[list[int]]:
    children: list[list[int]] = [[] for _ in joints]
    for index, joint in enumerate(joints):
        if joint.parent >= 0:
            children[joint.parent].append(index)
    return children


def _hierarchy(joints: list[Joint], offsets: Floats, tips: Floats) -> bytes:
    children, lines, open_at = _children(joints), ["HIERARCHY"], list[int]()
    for index in _as_written(joints):
        joint = joints[index]
        while open_at and open_at[-1] != joint.parent:
            open_at.pop()
            lines.append("\t" * len(open_at) + "}")
        tab = "\t" * len(open_at)
        if joint.end:
            lines.append(f"{tab}End Site {_name(joint)}".rstrip() if joint.named else f"{tab}End Site")
        else:
            lines.append(f"{tab}{'JOINT' if open_at else 'ROOT'} {_name(joint)}")
        lines += [f"{tab}{{", f"{tab}\t{_offset(offsets[index])}"]
        if not joint.end:
            names = [f"{axis}{'position' if kind == 'P' else 'rotation'}" for kind, axis in joint.channels]
            lines.append(f"{tab}\tCHANNELS {' '.join([str(len(names)), *names])}")
            if not children[index]:  # the format wants every limb closed
                lines += [f"{tab}\tEnd Site", f"{tab}\t{{", f"{tab}\t\t{_offset(tips[index])}", f"{tab}\t}}"]
        open_at.append(index)
    lines += ["\t" * depth + "}" for depth in reversed(range(len(open_at)))]
    return ("\n".join(lines) + "\n").encode()


def _offset(place: Floats) -> str:
    x, y, z = (np.round(place, 6) + 0.0).tolist()  # no minus zero
    return f"OFFSET {x:.6f} {y:.6f} {z:.6f}"


def _name(joint: Joint) -> str:
    # Braces open and close joints.
    return on_one_line(joint.name).replace("{", "(").replace("}", ")")


def _rows(
    skeleton: Skeleton, clip: Clip, layout: list[Joint], rest_rotations: Floats, space: Space, start: int
) -> Floats:
    """The channel values ``(frames, channels)`` of one block of frames."""
    span = slice(start, start + _FRAMES_AT_ONCE)
    tracks = clip.poses.rotation_tracks[:, :, span]
    columns = []
    for bone in _as_written(layout):
        joint = layout[bone]
        if not joint.channels:
            continue
        parent = int(skeleton.parents[bone])
        above = rest_rotations[parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
        if any(kind == "P" for kind, _ in joint.channels):
            place = rotate(above, clip.poses.translation_track(bone).T)
            place = (place @ space.turn) / space.metres
            place = np.broadcast_to(place[span] if len(place) > 1 else place, (tracks.shape[2], 3))
        turns = [axis for kind, axis in joint.channels if kind == "R"]
        rotation = multiply(multiply(above, tracks[bone].T), conjugate(rest_rotations[bone]))
        rotation[..., :3] = rotation[..., :3] @ space.turn
        angles = _angles(rotation, turns)
        for kind, axis in joint.channels:
            columns.append(place[:, "XYZ".index(axis)] if kind == "P" else angles[turns.index(axis)])
    return np.stack(columns, axis=1)


def _angles(rotation: Floats, turns: list[str]) -> list[Floats]:
    """Degrees for each of the turns; with fewer than three the rest are zero in what was read."""
    if not turns:
        return []
    order = "".join(turns + [axis for axis in "ZXY" if axis not in turns]) if len(set(turns)) == len(turns) else "ZXY"
    angles = np.degrees(euler_from_quaternion(rotation, order))
    return [np.where(angles[:, i] == 0.0, 0.0, angles[:, i]) for i in range(len(turns))]


def _time_text(rate: Fraction) -> str:
    return (
        f"{float(1 / rate):.8f}".rstrip("0") if rate.numerator % 3 or rate.denominator > 1 else f"{float(1 / rate):.7f}"
    )
