"""Fields of X3D nodes: numbers, switches, texts and turns out of attributes."""

from __future__ import annotations

import re

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.markup import Tag, integers_of, numbers_of
from fairswap.model.arrays import Floats, Integers, read_only
from fairswap.model.rotation import IDENTITY, matrix_from_quaternion, normalized, quaternion_from_axis_angle

_AGAIN = "Export the file again"
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"', re.DOTALL)


def vector(tag: Tag, name: str, otherwise: tuple[float, ...] = (0.0, 0.0, 0.0)) -> Floats:
    """A field of as many numbers as its default has."""
    text = tag.get(name)
    return np.array(otherwise) if text is None or not text.strip() else numbers_of(tag, text, len(otherwise))


def number(tag: Tag, name: str, otherwise: float) -> float:
    """A field of one number."""
    return float(vector(tag, name, (otherwise,))[0])


def rows(tag: Tag, name: str, width: int) -> Floats:
    """A field of many rows of numbers ``(n, width)``, read once: many shapes may share the points of one element."""
    if name not in tag.read:
        flat = numbers_of(tag, tag.get(name) or "")
        if len(flat) % width:
            raise InputError(f"{name} has {len(flat)} numbers, {width} to each", place=tag.place, remedy=_AGAIN)
        tag.read[name] = read_only(flat.reshape(-1, width))
    return tag.read[name]


def whole(tag: Tag, name: str) -> Integers:
    """A field of many whole numbers."""
    return integers_of(tag, tag.get(name) or "")


def switch(tag: Tag, name: str, otherwise: bool) -> bool:
    """A field that is true or false."""
    text = (tag.get(name) or "").strip().lower()
    return otherwise if text not in ("true", "false") else text == "true"


def texts(tag: Tag, name: str) -> list[str]:
    """A field of many texts, each in quotation marks; one without them counts as one."""
    text = tag.get(name) or ""
    found = [re.sub(r"\\(.)", r"\1", one) for one in _QUOTED.findall(text)]
    return found or ([text.strip()] if text.strip() else [])


def kept_word(tag: Tag, name: str) -> str | None:
    """What a file of ours keeps with a node under this name, letter by letter."""
    for held in tag:
        if held.tag == "MetadataString" and isinstance(held, Tag) and held.get("name") == name:
            return next(iter(texts(held, "value")), None)
    return None


def turn(tag: Tag, name: str) -> Floats:
    """A turn ``(4,)``, xyzw, of a field that has an axis and an angle in radians."""
    return turns_of(vector(tag, name, (0.0, 0.0, 1.0, 0.0))[None])[0]


def turns_of(axes_and_angles: Floats) -> Floats:
    """Turns ``(n, 4)``, xyzw, of rows of axis and angle; an axis of no length is no turn."""
    axes = normalized(axes_and_angles[:, :3])
    out = quaternion_from_axis_angle(axes, axes_and_angles[:, 3])
    out[~axes.any(axis=1)] = IDENTITY
    return out


def placed(translation: Floats, rotation: Floats, scale: Floats, center: Floats, scale_turn: Floats) -> Floats:
    """Matrices ``(n, 4, 4)`` of a Transform (X3D, 10.4.4): ``T C R SR S -SR -C``, from rows of each."""
    count = len(translation)
    out = np.tile(np.eye(4), (count, 1, 1))
    skew = matrix_from_quaternion(scale_turn)
    linear = matrix_from_quaternion(rotation) @ (skew * scale[:, None, :]) @ skew.transpose(0, 2, 1)
    out[:, :3, :3] = linear
    out[:, :3, 3] = translation + center - np.einsum("nij,nj->ni", linear, center)
    return out
