"""Layers: corrections kept apart from the motion, in TOML, by role; applied in order, taken off by leaving them out.

A layer turns a bone by a constant or keyed amount, shifts it, or pastes a saved pose over a range of time. Turns are in
words (``forward = 20``), or degrees about the figure's left, up and ahead, seen from the parent in the T; so one layer
means the same on every figure. A bone without a role is meant by its name, on the figure that has it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Annotated, Literal

import msgspec
import numpy as np

from fairswap.bones.roles import is_role
from fairswap.errors import ImpossibleError, InputError
from fairswap.formats.own import file_beside, struct_from_file
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import IDENTITY, conjugate, multiply, quaternion_from_rotation_vector, rotate, slerp
from fairswap.model.signals import eased
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.saved import SavedPose
from fairswap.retarget.turns import Words, points_along, turn_in_words, wrong_words

_Three = tuple[float, float, float]
_Share = Annotated[float, msgspec.Meta(ge=0.0, le=1.0)]
_Seconds = Annotated[float, msgspec.Meta(ge=0.0)]


class Key(Words, frozen=True, forbid_unknown_fields=True, kw_only=True, rename={"inward": "in"}):
    """What a layer does at one time; between keys it eases."""

    time: _Seconds
    turn: _Three = (0.0, 0.0, 0.0)
    offset: _Three = (0.0, 0.0, 0.0)


class Layer(
    Words, frozen=True, forbid_unknown_fields=True, kw_only=True,
    rename={"start": "from", "stop": "to", "inward": "in"},
):  # fmt: skip
    """One correction; its turn also in :class:`Words`.

    Attributes
    ----------
    role, bone : str
        Whose bone it corrects, or the name of a bone; without, it pastes ``pose``.
    turn, offset : three numbers
        Degrees and metres, for the whole clip; ``keys`` say it over time instead.
    pose : str
        A saved pose file; its roles are turned to it.
    mode : str
        ``add`` to the motion, or ``replace`` it. A pose always replaces.
    weight : float
        0 to 1.
    start, stop, ease : float
        Seconds (``from``, ``to``, ``ease`` in the file): only in this range, coming and going within ``ease`` seconds.
    """

    name: str = ""
    role: str = ""
    bone: str = ""
    turn: _Three = (0.0, 0.0, 0.0)
    offset: _Three = (0.0, 0.0, 0.0)
    keys: tuple[Key, ...] = ()
    pose: str = ""
    mode: Literal["add", "replace"] = "add"
    weight: _Share = 1.0
    start: _Seconds | None = None
    stop: _Seconds | None = None
    ease: _Seconds = 0.2

    @property
    def title(self) -> str:
        """What to call it in messages."""
        return self.name or self.role or self.bone or self.pose


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    layer: list[Layer]


@dataclass(frozen=True)
class Layers:
    """The layers of one file, with the saved poses that they paste, by the names they have there."""

    layers: tuple[Layer, ...]
    poses: Mapping[str, SavedPose] = field(default_factory=dict)
    name: str = ""

    @classmethod
    def load(cls, path: str | Path) -> Layers:
        """Read a layers file; its pose files are relative to it.

        Raises
        ------
        InputError
            With the field that is wrong.
        """
        read, _ = struct_from_file(path, "layers/1", "a file of layers", _File)
        for number, layer in enumerate(read.layer):
            _check(layer, path, f"layer[{number}]")
        poses = {
            layer.pose: SavedPose.load(file_beside(path, layer.pose, f"layer[{number}].pose"))
            for number, layer in enumerate(read.layer)
            if layer.pose
        }
        return cls(tuple(read.layer), poses, str(path))


def _check(layer: Layer, path: str | Path, place: str) -> None:
    if sum(map(bool, (layer.role, layer.bone, layer.pose))) != 1:
        raise InputError("it needs a role, a bone or a pose", file=path, place=place, remedy="Give one of them")
    said = [(layer, place), *((key, f"{place}.keys[{number}]") for number, key in enumerate(layer.keys))]
    for words, where in said:
        wrong = wrong_words(words, layer.role) if layer.role else _no_words(words)
        if wrong:
            raise InputError(wrong, file=path, place=where, remedy="See docs/motion.md, or give turn = [x, y, z]")
    if layer.role and not is_role(layer.role):
        raise InputError(f"{layer.role!r} is not a role", file=path, place=place, remedy="See docs/roles.md")
    times = [key.time for key in layer.keys]
    if times != sorted(times):
        raise InputError("its keys are not in the order of time", file=path, place=f"{place}.keys", remedy="Sort them")
    if layer.start is not None and layer.stop is not None and layer.stop <= layer.start:
        raise InputError("it ends before it begins", file=path, place=f"{place}.to", remedy="Exchange from and to")
    numbers = [
        *(getattr(row, name) for row, _ in said for name in row.said()),
        *layer.turn,
        *layer.offset,
        *(x for key in layer.keys for x in (*key.turn, *key.offset)),
    ]
    if not np.isfinite(numbers).all():
        raise InputError("one of its numbers is not a number", file=path, place=place, remedy="Correct it")


def _no_words(words: Words) -> str:
    said = sorted(words.said())
    return f"{said[0]!r} is for roles: of a bone by its name it is not known which way that is" if said else ""


def layers_named(what: Layers | str | Path) -> Layers:
    """Layers themselves, or those of a file."""
    return what if isinstance(what, Layers) else Layers.load(what)


def with_layers(rigged: RiggedFigure, clip: Clip, files: Sequence[Layers], by_name: bool = True) -> Clip:
    """A clip of a figure with layers put on; errors as of :func:`put_layers_on`.

    Without ``by_name`` those for bones by their names are left out: they are meant for another figure.
    """
    if not by_name:
        files = [replace(file, layers=tuple(row for row in file.layers if not row.bone)) for file in files]
    if not any(file.layers for file in files):
        return clip
    edit = clip.poses.edit()
    touched = put_layers_on(rigged, files, float(clip.rate), edit)
    return clip.with_poses(edit.poses(), keyed=clip.keyed | touched)


def put_layers_on(
    target: RiggedFigure, files: Sequence[Layers], rate: float, edit: PoseBuilder, before: int = 0
) -> set[int]:
    """Put all layers on the poses of ``target`` in ``edit``, in order; give the bones they touch. So many frames stand
    ``before`` the one that their times count from.

    Raises
    ------
    ImpossibleError
        If the figure has no bone for the role of a layer.
    """
    times = (np.arange(edit.frames) - before) / rate
    touched: set[int] = set()
    for file in files:
        for layer in file.layers:
            weight = layer.weight * _window(layer, times)
            if layer.pose:
                touched |= _paste(target, layer, file.poses[layer.pose], weight, edit)
            else:
                touched.add(_correct(target, layer, weight, times, edit))
    return touched


def _window(layer: Layer, times: Floats) -> Floats:
    """How much of a layer is there at each time, by its range."""
    weight = np.ones(len(times))
    ease = max(layer.ease, 1e-9)
    if layer.start is not None:
        weight *= eased((times - layer.start) / ease + 1.0)
    if layer.stop is not None:
        weight *= eased((layer.stop - times) / ease + 1.0)
    return weight


def _bone(target: RiggedFigure, layer: Layer) -> int:
    if layer.bone:
        if layer.bone not in target.skeleton.names:
            problem = f"layer {layer.title!r} is for the bone {layer.bone!r}, and {target.title} has none of that name"
            raise ImpossibleError(problem, remedy="Take the layer out, or correct the name ('inspect' lists them)")
        return target.skeleton.names.index(layer.bone)
    if layer.role not in target.roles.bones:
        raise ImpossibleError(
            f"layer {layer.title!r} is for {layer.role}, and {target.title} has no such bone",
            remedy="Take the layer out, or name the bone in a profile",
        )
    return target.roles.bones[layer.role]


def _above(target: RiggedFigure, bone: int) -> Floats:
    parent = int(target.skeleton.parents[bone])
    return target.reference.rotations[parent] if parent >= 0 else IDENTITY


def _correct(target: RiggedFigure, layer: Layer, weight: Floats, times: Floats, edit: PoseBuilder) -> int:
    bone, now = _bone(target, layer), edit.rotation_tracks
    above, lying = _above(target, bone), target.reference.rotations[bone]
    along = np.tile(points_along(layer.role), (len(times), 1))
    if layer.mode == "add":  # the words are about where it points now
        along = rotate(multiply(multiply(above, now[bone].T), conjugate(lying)), along)
    turns, offsets = _over_time(layer, times, along)
    # The turn in the common axes, seen from the parent's own axes.
    local = multiply(multiply(conjugate(above), turns), above)
    if layer.mode == "replace":
        edit.turn(bone, slerp(now[bone].T, multiply(local, multiply(conjugate(above), lying)), weight).T)
    else:
        edit.turn(bone, multiply(slerp(IDENTITY, local, weight), now[bone].T).T)
    if np.any(offsets):
        shift = rotate(conjugate(above), offsets) * weight[:, None]
        edit.translations[bone] = edit.translation_track(bone) + shift.T
    return bone


def _over_time(layer: Layer, times: Floats, along: Floats) -> tuple[Floats, Floats]:
    """Turn ``(frames, 4)`` and offset ``(frames, 3)`` of a layer whose bone points ``along`` ``(frames, 3)``."""
    if not layer.keys:
        return _turns(layer, layer.role, along), np.tile(layer.offset, (len(times), 1))
    knots = np.array([key.time for key in layer.keys])
    after = np.clip(np.searchsorted(knots, times, side="right"), 1, max(len(knots) - 1, 1))
    before = after - 1
    after = np.minimum(after, len(knots) - 1)
    span = np.maximum(knots[after] - knots[before], 1e-9)
    fraction = eased((times - knots[before]) / span)
    turns = np.stack([_turns(key, layer.role, along) for key in layer.keys])
    offsets = np.array([key.offset for key in layer.keys])
    frames = np.arange(len(times))
    return slerp(turns[before, frames], turns[after, frames], fraction), offsets[before] + (
        offsets[after] - offsets[before]
    ) * fraction[:, None]


def _turns(what: Layer | Key, role: str, along: Floats) -> Floats:
    """The turn of a layer or a key in each frame ``(frames, 4)``: that in numbers and that in words."""
    turn = np.tile(np.array(what.turn, dtype=float), (len(along), 1))
    return quaternion_from_rotation_vector(np.radians(turn + (turn_in_words(what, role, along) if role else 0.0)))


def _paste(target: RiggedFigure, layer: Layer, pose: SavedPose, weight: Floats, edit: PoseBuilder) -> set[int]:
    bones = {role: target.roles.bones[role] for role in pose.turns if role in target.roles.bones}
    if not bones:
        raise ImpossibleError(f"layer {layer.title!r} poses bones that {target.title} does not have")
    for role, turn in pose.rotations().items():
        if role in bones:
            bone = bones[role]
            above = _above(target, bone)
            wanted = multiply(multiply(conjugate(above), turn), target.reference.rotations[bone])
            edit.turn(bone, slerp(edit.rotation_tracks[bone].T, wanted, weight).T)
    return set(bones.values())
