"""Motion: every animation of the stage as a clip, and what moves as a whole beside the skeletons."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.limits import clip_numbers
from fairswap.formats.marks import RECORD
from fairswap.formats.scene.building import trs_from_matrices
from fairswap.formats.scene.decided import decided_from
from fairswap.formats.usd.scene import Scene
from fairswap.formats.usd.values import matrix_of, name_of, value_of
from fairswap.model.arrays import Floats

_AGAIN = "Export the file again"

Keys = tuple[int, str, Floats, Floats, str]


def add_clips(scene: Scene, animations: Sequence[Any], moving: Sequence[tuple[Any, int]]) -> None:
    """Each animation as a clip; what moves beside the skeletons goes with the one that is bound, or by itself."""
    from pxr import UsdSkel

    ticks = float(scene.stage.GetTimeCodesPerSecond()) or 24.0
    sources: dict[str, list[str]] = {}
    for key in scene.skeletons:
        bound = UsdSkel.BindingAPI(scene.stage.GetPrimAtPath(key)).GetInheritedAnimationSource()
        if bound:
            sources.setdefault(str(bound.GetPath()), []).append(key)
    beside = [row for xform, number in moving for row in _xform_keys(scene, xform, number, ticks)]
    names: list[str] = []
    for animation in animations:
        own = str(animation.GetPath())
        tokens = [str(token) for token in value_of(animation.GetJointsAttr()) or ()]
        keys = sources.get(own) or [
            key for key, bones in scene.skeletons.items() if tokens and set(tokens) <= set(bones.joints)
        ][:1]  # fmt: skip
        channels = [row for key in keys for row in _keys(scene, animation, tokens, key, ticks)]
        if own in sources or (not sources and not names):
            channels += beside
            beside = []
        if channels:
            names.append(name_of(animation.GetPrim()))
            made = decided_from(str(animation.GetPrim().GetCustomDataByKey(RECORD) or ""))
            scene.builder.animation(names[-1], _from_one_start(channels), made)
    if beside:
        scene.builder.animation(scene.path.stem, _from_one_start(beside))


def _from_one_start(keys: list[Keys]) -> list[Keys]:
    """Keys that begin together: none before time 0, and what never changes not before what does."""
    first = min((float(times[0]) for _, _, times, _, _ in keys if len(times) > 1), default=0.0)
    return [
        (node, path, (times if len(times) > 1 else np.array([first])) - min(first, 0.0), values, how)
        for node, path, times, values, how in keys
    ]


def _keys(scene: Scene, animation: Any, tokens: list[str], key: str, ticks: float) -> list[Keys]:
    """The keys of one animation on one skeleton, and on the meshes that hang on it."""
    bones = scene.skeletons[key]
    known = {joint: at for at, joint in enumerate(bones.joints)}
    place = str(animation.GetPath())
    out: list[Keys] = []
    only = animation.GetPrim().GetCustomDataByKey("keyed")
    rows = scene.builder.raw["nodes"]
    for path, attribute, width in (
        ("rotation", animation.GetRotationsAttr(), 4),
        ("translation", animation.GetTranslationsAttr(), 3),
        ("scale", animation.GetScalesAttr(), 3),
    ):
        times, values = _samples(scene, attribute, len(tokens), width, ticks, place)
        if values is None:
            continue
        for column, token in enumerate(tokens):
            if token not in known:
                continue
            node = bones.nodes[known[token]]
            track = values[:, column]
            spread = float(np.ptp(track, axis=0).max(initial=0.0))
            rest = trs_from_matrices(bones.rest[known[token]][None])
            still = {"rotation": rest[1][0], "translation": rest[0][0], "scale": rest[2][0]}[path]
            toward = -1.0 if path == "rotation" and track[0] @ still < 0.0 else 1.0
            off = float(np.abs(track[0] * toward - still).max())
            at_rest = spread < 1e-6 and off < 1e-6 * max(1.0, float(np.abs(still).max()))
            if at_rest and path != "rotation":
                continue
            if at_rest and only is not None and rows[node]["name"] not in only:
                continue
            kept = slice(None) if spread >= 1e-7 or len(times) < 2 else [0, -1]
            out.append((node, path, times[kept], track[kept], "LINEAR"))
    names = [str(token) for token in value_of(animation.GetBlendShapesAttr()) or ()]
    times, weights = _samples(scene, animation.GetBlendShapeWeightsAttr(), len(names), 1, ticks, place)
    if weights is None:
        return out
    column_of = {name: at for at, name in enumerate(names)}
    for shape in [*scene.shapes.get(key, ()), *scene.shapes.get("", ())]:
        if not set(shape.tokens) & set(column_of):
            continue
        values = np.tile(shape.rest, (len(times), 1))
        for at, (token, (ways, made)) in enumerate(zip(shape.tokens, shape.curves, strict=True)):
            if token in column_of:
                track = weights[:, column_of[token], 0]
                # Beyond its ends the last stretch goes on, as a weight over one does.
                bent = np.interp(track, ways, made)
                values[:, at] = np.where(track > 1.0, bent * track, bent) if len(ways) > 2 else track
        out.append((shape.node, "weights", times, values, "LINEAR"))
    return out


def _samples(
    scene: Scene, attribute: Any, count: int, width: int, ticks: float, place: str
) -> tuple[Floats, Floats | None]:
    """The times in seconds and values ``(times, count, width)`` of an attribute; None if it has none."""
    codes = list(attribute.GetTimeSamples()) if attribute else []
    if not attribute or not count or not attribute.HasAuthoredValue():
        return np.zeros(1), None
    if len(codes) * count * width > clip_numbers(scene.file_bytes):
        raise InputError(f"its {len(codes)} samples are too many for a file of this size", place=place, remedy=_AGAIN)
    rows = [attribute.Get(code) for code in codes] or [attribute.Get()]
    if any(row is None or len(row) != count for row in rows):
        if all(row is None or len(row) == 0 for row in rows):
            return np.zeros(1), None
        raise InputError(f"a sample of {attribute.GetName()} does not have {count} values", place=place, remedy=_AGAIN)
    values = np.stack([np.array(row, dtype=np.float64) for row in rows]).reshape(len(rows), count, width)
    if not np.isfinite(values).all():
        raise InputError("a sample is not finite", place=place, remedy=_AGAIN)
    if width == 4:
        # A turn of length zero is none.
        values[~values.any(axis=2)] = [0.0, 0.0, 0.0, 1.0]
    return np.array(codes or [0.0]) / ticks, values


def _xform_keys(scene: Scene, xform: Any, node: int, ticks: float) -> list[Keys]:
    """The keys of a thing that moves as a whole."""
    codes = xform.GetTimeSamples()
    if len(codes) < 2 or len(codes) * 16 > clip_numbers(scene.file_bytes):
        return []
    matrices = np.stack([matrix_of(xform.GetLocalTransformation(code)) for code in codes])
    places, turns, sizes = trs_from_matrices(matrices)
    times = np.array(codes) / ticks
    out = [(node, "rotation", times, turns, "LINEAR"), (node, "translation", times, places, "LINEAR")]
    if np.ptp(sizes, axis=0).max() > 1e-5:
        out.append((node, "scale", times, sizes, "LINEAR"))
    return out
