"""Baked motion of H-Anim 2.0: a table of channels, a row for each frame, as tracks of the joints of its humanoid.

``HAnimMotion`` (X3D 4.0, 26.3.6; ISO/IEC 19774-2) names its joints, tells the channels of each ("6 Xposition Yposition
Zposition Zrotation Xrotation Yrotation, 3 Zrotation ..."), and lists degrees and lengths frame by frame.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.limits import clip_numbers
from fairswap.formats.markup import Tag, numbers_of
from fairswap.formats.x3d.fields import number
from fairswap.formats.x3d.motions import Keys, Track, keys_of_node
from fairswap.formats.x3d.scene import Humanoid, Scene
from fairswap.model.arrays import Floats
from fairswap.model.rotation import quaternion_from_euler
from fairswap.wording import counted

_AGAIN = "Export the file again"
_FIELDS = {"position": "translation", "rotation": "rotation", "scale": "scale"}
_CHANNEL = re.compile(r"([XYZ])(position|rotation|scale)")
# What stands in the list of joints for one that is left out, and what an older edition calls the root.
_LEFT_OUT, _OLDER = "IGNORED", {"HumanoidRoot": "humanoid_root"}


def baked_clips(scene: Scene) -> Iterator[tuple[str, list[Keys]]]:
    """Each baked motion that moves a humanoid: its name, and the keys of the joints.

    Raises
    ------
    InputError
        If a table does not fit its channels, or the channels its joints.
    """
    moved: dict[int, tuple[Tag, list[Humanoid]]] = {}
    for humanoid in scene.humanoids:
        for one in humanoid.tag:
            if one.tag == "HAnimMotion" and isinstance(one, Tag):
                tag = scene.resolved(one)
                moved.setdefault(id(tag), (tag, []))[1].append(humanoid)
    stray = sum("USE" not in tag.attrib and id(tag) not in moved for tag in scene.root.iter("HAnimMotion"))
    if stray:
        message = f"{counted(stray, 'baked motion')} in no humanoid: not read"
        scene.findings.append(Finding("motion-not-read", "warning", scene.path.name, message))
    for count, (tag, humanoids) in enumerate(moved.values(), start=1):
        name = tag.get("name") or tag.get("description") or tag.get("DEF") or f"motion {count}"
        tracks = list(_tracks_of(scene, tag, name))
        keys: list[Keys] = []
        strangers: dict[str, None] = {}
        for humanoid in humanoids:
            joints = {(joint.tag.get("name") or "").strip(): joint for joint in humanoid.joints}
            for called, own in tracks:
                joint = joints.get(called) or joints.get(_OLDER.get(called, ""))
                if joint is not None:
                    keys += keys_of_node(joint.node, joint.mover, own)
                elif called != _LEFT_OUT and own:
                    strangers[called] = None
        if strangers:
            message = f"it moves {counted(len(strangers), 'joint')} its humanoid does not have"
            message += f" ({', '.join(list(strangers)[:3])}); left out"
            scene.findings.append(Finding("channels-left-out", "note", name, message))
        if keys:
            yield name, keys


def _tracks_of(scene: Scene, tag: Tag, name: str) -> Iterator[tuple[str, dict[str, Track]]]:
    """The name of each joint in the order of the table, and the tracks of its fields."""
    joints = _words(tag, "joints")
    channels = _channels_of(tag)
    if len(joints) != len(channels):
        problem = f"it names {len(joints)} joints and has channels for {len(channels)}"
        raise InputError(problem, place=tag.place, remedy=_AGAIN)
    enabled = _enabled(scene, tag, channels, name)
    table = _table(scene, tag, sum(map(len, channels)))
    seconds = number(tag, "frameDuration", 0.1)
    if not 0.0 < seconds < 1e3:
        raise InputError(f"a frame of it lasts {seconds:g} s", place=tag.place, remedy=_AGAIN)
    times: Floats = np.arange(len(table), dtype=np.float64) * seconds
    column = 0
    for called, own in zip(joints, channels, strict=True):
        by_kind: dict[str, list[tuple[str, int]]] = {}
        for axis, kind in own:
            if enabled[column] and len(times):
                by_kind.setdefault(kind, []).append((axis, column))
            column += 1
        yield called, {_FIELDS[kind]: Track(times, _values(table, kind, columns)) for kind, columns in by_kind.items()}


def _values(table: Floats, kind: str, columns: list[tuple[str, int]]) -> Floats:
    """The values of one field, a row for each frame: turns as xyzw, in the order of their channels."""
    if kind == "rotation":
        order = "".join(axis for axis, _ in columns)
        return quaternion_from_euler(np.radians(table[:, [at for _, at in columns]]), order)
    out = np.full((len(table), 3), 1.0 if kind == "scale" else 0.0)
    for axis, at in columns:
        out[:, "XYZ".index(axis)] = table[:, at]
    return out


def _words(tag: Tag, field: str) -> list[str]:
    return re.findall(r'[^\s,"]+', tag.get(field) or "")


def _channels_of(tag: Tag) -> list[list[tuple[str, str]]]:
    """For each joint its channels: axis and kind."""
    out: list[list[tuple[str, str]]] = []
    words = iter(_words(tag, "channels"))
    for word in words:
        if not word.isascii() or not word.isdecimal() or len(word) > 2:
            raise InputError(f"{word[:40]!r} is not the number of a joint's channels", place=tag.place, remedy=_AGAIN)
        own = [_CHANNEL.fullmatch(next(words, "")) for _ in range(int(word))]
        pairs = [(found[1], found[2]) for found in own if found is not None]
        if len(pairs) < len(own) or len(set(pairs)) < len(pairs):
            problem = f"joint {len(out) + 1} has {word} channels, but not so many that are known and different"
            raise InputError(problem, place=tag.place, remedy=_AGAIN)
        out.append(pairs)
    return out


def _enabled(scene: Scene, tag: Tag, channels: list[list[tuple[str, str]]], name: str) -> list[bool]:
    """Which channels count: files state it for each joint or for each channel."""
    count = sum(map(len, channels))
    stated = [word.lower() == "true" for word in _words(tag, "channelsEnabled")]
    if len(stated) == len(channels):
        return [one for one, own in zip(stated, channels, strict=True) for _ in own]
    if stated and len(stated) != count:
        message = f"it says of {len(stated)} channels whether they count, but has {count}: all do"
        scene.findings.append(Finding("channels-left-out", "note", name, message))
    return stated if len(stated) == count else [True] * count


def _table(scene: Scene, tag: Tag, width: int) -> Floats:
    """The values ``(frames, channels)``: all of them, whichever part a browser is told to play."""
    flat = numbers_of(tag, tag.get("values") or "")
    if flat.size > clip_numbers(scene.file_bytes):
        raise InputError(f"it has {flat.size} values", place=tag.place, remedy=_AGAIN)
    if flat.size and (not width or flat.size % width):
        problem = f"it has {flat.size} values, {width} to a frame"
        raise InputError(problem, place=tag.place, remedy=_AGAIN)
    return flat.reshape(-1, max(width, 1))
