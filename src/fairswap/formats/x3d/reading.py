"""From an X3D scene to figures and clips: its humanoids, shapes and routes built up as nodes, skins and keys."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.marks import MARK, RECORD, mark_from
from fairswap.formats.markup import Tag, numbers_of, tag_from_xml
from fairswap.formats.scene.stance import stance_node
from fairswap.formats.x3d.baked import baked_clips
from fairswap.formats.x3d.fields import number, placed, turn, vector
from fairswap.formats.x3d.motions import Mover, clips_of, keys_of_clip
from fairswap.formats.x3d.scene import Humanoid, Joint, Scene
from fairswap.formats.x3d.skin import hang_shapes, hang_skin
from fairswap.model.arrays import Floats
from fairswap.model.document import Document
from fairswap.model.rotation import (
    IDENTITY,
    conjugate,
    matrix_from_quaternion,
    multiply,
    rotate,
)

_AGAIN = "Export the file again"
_HOLDERS = (
    "Transform",
    "Group",
    "StaticGroup",
    "Anchor",
    "Billboard",
    "Collision",
    "LOD",
    "Switch",
    "HAnimSite",
    "Layer",
)
_MOST_NODES, _DEEPEST = 200_000, 256
# What moves things in ways that are not followed.
_NOT_READ = (
    "CoordinateInterpolator", "EaseInEaseOut", "SplinePositionInterpolator", "SplineScalarInterpolator",
    "SquadOrientationInterpolator",
)  # fmt: skip


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of an ``.x3d``; see :func:`fairswap.load`.

    Raises
    ------
    InputError
        If it is no X3D in XML, damaged, or names what is not there.
    """
    root = tag_from_xml(content)
    scene_tag = next((one for one in root if one.tag == "Scene" and isinstance(one, Tag)), None)
    if root.tag != "X3D" or scene_tag is None:
        raise InputError(f"it is XML, but not X3D: it begins with <{root.tag}>", remedy=_AGAIN + " as X3D in XML")
    scene = Scene(root, path, len(content))
    _build(scene, scene_tag, unit, up)
    beside = tuple(dict.fromkeys(scene.looks.pictures.beside))
    version = root.get("version") or "3.0"
    container = scene.builder.container(path, f"X3D {version}", beside=beside, says_forward=True)
    document = document_from_container(container)
    return replace(document, findings=(*scene.findings, *document.findings))


def _build(scene: Scene, tag: Tag, unit: str | None, up: str | None) -> None:
    """Everything below the scene, and what the routes move."""
    top = stance_node(scene.builder, unit, up, file_metres=_metres(scene))
    for meta in scene.root.iter("meta"):
        if meta.get("name") == f"{RECORD}-{MARK}":
            scene.builder.written_by_us(mark_from(meta.get("content") or ""))
    _walk(scene, tag, top)
    for humanoid in scene.humanoids:
        hang_skin(scene, humanoid)
    meshes, nodes = scene.builder.raw.get("meshes", []), scene.builder.raw["nodes"]
    resting = {node: meshes[row["mesh"]].get("weights", []) for node, row in enumerate(nodes) if "mesh" in row}
    curved = [kind for kind in _NOT_READ if next(scene.root.iter(kind), None) is not None]
    if curved:
        message = f"motion by {', '.join(curved)} is not read: only plain interpolators are"
        scene.findings.append(Finding("motion-not-read", "warning", scene.path.name, message))
    for name, tracks, made in clips_of(scene.root, scene.by_name, scene.file_bytes):
        keys = keys_of_clip(tracks, scene.movers, scene.displaced, resting, name, scene.findings)
        if keys:
            scene.builder.animation(name, keys, made)
    for name, keys in baked_clips(scene):
        scene.builder.animation(name, keys)


def _metres(scene: Scene) -> float:
    """The length that the file counts in (X3D 3.3, 7.2.6)."""
    for tag in scene.root.iter("unit"):
        if isinstance(tag, Tag) and tag.get("category") == "length" and tag.get("conversionFactor"):
            return float(numbers_of(tag, tag.get("conversionFactor"), 1)[0])
    return 1.0


def _walk(scene: Scene, outermost: Tag, top: int | None) -> None:
    """Place everything, from above: element, node above, what comes before its own transform, and whose it is."""
    stack: list[tuple[Tag, int | None, Floats, Humanoid | None, Joint | None, tuple[int, ...]]]
    stack = [(one, top, np.eye(4), None, None, ()) for one in reversed(outermost) if isinstance(one, Tag)]
    while stack:
        given, above, before, humanoid, joint, inside = stack.pop()
        if given.get("containerField") in ("joints", "segments", "sites", "skinCoord", "skinNormal"):
            continue
        # A humanoid lists its joints and segments once more, by their names.
        if given.get("USE") and given.tag in ("HAnimJoint", "HAnimSegment", "HAnimSite"):
            continue
        tag = scene.resolved(given)
        if id(tag) in inside or len(inside) > _DEEPEST or len(scene.builder.raw["nodes"]) > _MOST_NODES:
            what = "it is inside of itself" if id(tag) in inside else "there are too many copies of nodes in it"
            raise InputError(what, place=given.place, remedy=_AGAIN)
        children = [one for one in tag if isinstance(one, Tag)]
        node: int | None
        below = (*inside, id(tag))
        if tag.tag == "HAnimHumanoid":
            node = _transform(scene, tag, above, before)
            humanoid, joint = Humanoid(tag, node), None
            scene.humanoids.append(humanoid)
            children = [one for one in children if one.get("containerField") not in ("skin", "viewpoints")]
            onward = np.eye(4)
        elif tag.tag == "HAnimJoint" and humanoid is not None:
            joint = _joint(scene, tag, humanoid, joint)
            node = joint.node
            # What hangs on a joint is drawn where the humanoid is, not where the joint is.
            onward = np.eye(4)
            back = matrix_from_quaternion(conjugate(joint.rest))
            onward[:3, :3], onward[:3, 3] = back, -back @ joint.center
        elif tag.tag == "HAnimSegment":
            _segment(scene, tag, above, before)
            children = [one for one in children if one.tag != "Shape"]
            node, onward = above, before
        elif tag.tag in _HOLDERS:
            # What only places something on a joint is no bone.
            if joint is not None and tag.get("DEF") not in scene.routed:
                node, onward = above, before @ _matrix_of(tag)
            else:
                node, onward = _transform(scene, tag, above, before), np.eye(4)
            if tag.tag == "Switch":
                shown = int(number(tag, "whichChoice", -1))
                children = children[shown : shown + 1] if shown >= 0 else []
            elif tag.tag == "LOD":
                children = children[:1]
        elif tag.tag == "Shape":
            node = scene.builder.node(tag.get("DEF") or "shape", above, before)
            hang_shapes(scene, node, tag.get("DEF") or "shape", [tag], [])
            continue
        else:
            if tag.tag == "Inline":
                message = "a part of it is in another file, which is not opened"
                scene.findings.append(Finding("part-elsewhere", "warning", scene.path.name, message))
            continue
        stack += [(one, node, onward, humanoid, joint, below) for one in reversed(children)]


def _transform(scene: Scene, tag: Tag, above: int | None, before: Floats) -> int:
    """The node of a group with its transform."""
    fields = _fields_of(tag)

    def matrices(moved: Mapping[str, Floats], count: int) -> Floats:
        return before @ _placed(fields, moved, count)

    name = tag.get("name") or tag.get("DEF") or tag.tag.lower()
    node = scene.builder.node(name, above, matrices({}, 1)[0])
    apart = not fields["center"].any() and abs(fields["skew"][3]) > 1 - 1e-12 and np.allclose(before, np.eye(4))
    if tag.get("DEF"):
        scene.movers.setdefault(tag.attrib["DEF"], []).append((node, Mover(matrices, bool(apart))))
    return node


def _joint(scene: Scene, tag: Tag, humanoid: Humanoid, above: Joint | None) -> Joint:
    """The node of a joint, at its centre, turned as its bone rests."""
    center, rest = vector(tag, "center"), _rest_of(tag)
    origin = above.center if above is not None else np.zeros(3)
    back = conjugate(above.rest) if above is not None else IDENTITY
    fields = {"translation": vector(tag, "translation"), "rotation": turn(tag, "rotation"),
              "scale": vector(tag, "scale", (1.0, 1.0, 1.0))}  # fmt: skip

    def matrices(moved: Mapping[str, Floats], count: int) -> Floats:
        every = {name: np.broadcast_to(value, (count, len(value))) for name, value in fields.items()} | dict(moved)
        out = np.tile(np.eye(4), (count, 1, 1))
        turned = multiply(multiply(back, every["rotation"]), rest)
        out[:, :3, :3] = matrix_from_quaternion(turned) * every["scale"][:, None, :]
        out[:, :3, 3] = rotate(back, center - origin + every["translation"])
        return out

    name = tag.get("name") or tag.get("DEF") or f"joint {len(humanoid.joints) + 1}"
    node = scene.builder.node(name, above.node if above is not None else humanoid.node, matrices({}, 1)[0])
    joint = Joint(tag, center, rest, node, Mover(matrices, True))
    humanoid.joints.append(joint)
    if tag.get("DEF"):
        scene.movers.setdefault(tag.attrib["DEF"], []).append((node, joint.mover))
    return joint


def _segment(scene: Scene, tag: Tag, above: int | None, before: Floats) -> None:
    """The shapes of a segment on a node of their own, with its displacers as their morphs."""
    shapes = [scene.resolved(one) for one in tag if one.tag == "Shape" and isinstance(one, Tag)]
    displacers = [scene.resolved(one) for one in tag if one.tag == "HAnimDisplacer" and isinstance(one, Tag)]
    if shapes:
        name = tag.get("name") or tag.get("DEF") or "segment"
        hang_shapes(scene, scene.builder.node(name, above, before), name, shapes, displacers)


def _fields_of(tag: Tag) -> dict[str, Floats]:
    """The fields that place a group."""
    return {
        "translation": vector(tag, "translation"), "rotation": turn(tag, "rotation"),
        "scale": vector(tag, "scale", (1.0, 1.0, 1.0)), "center": vector(tag, "center"),
        "skew": turn(tag, "scaleOrientation"),
    }  # fmt: skip


def _placed(fields: Mapping[str, Floats], moved: Mapping[str, Floats], count: int) -> Floats:
    every = {name: np.broadcast_to(value, (count, len(value))) for name, value in fields.items()} | dict(moved)
    return placed(every["translation"], every["rotation"], every["scale"], every["center"], every["skew"])


def _matrix_of(tag: Tag) -> Floats:
    return _placed(_fields_of(tag), {}, 1)[0]


def _rest_of(tag: Tag) -> Floats:
    """How the bone of a joint is turned at rest, xyzw, if the file says so; the format itself knows no such turn."""
    for held in tag:
        if held.tag == "MetadataDouble" and held.get("name") == "bone rotation" and isinstance(held, Tag):
            values = numbers_of(held, held.get("value") or "", 4)
            length = float(np.linalg.norm(values))
            if length > 1e-9:
                return values / length
    return IDENTITY
