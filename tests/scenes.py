"""Small scenes for tests of formats: a figure with everything that formats differ in, and avatars made by hand."""

from __future__ import annotations

import io
from functools import cache
from types import SimpleNamespace
from xml.etree import ElementTree

import numpy as np
from PIL import Image
from scipy.spatial.transform import Rotation, Slerp

import fairswap
from making import Gltf, animate

# A small body in a T-pose, in metres: each bone's place, and the bone above it.
BODY = {
    "hips": ((0, 0.9, 0), None), "spine": ((0, 1.0, 0), "hips"), "chest": ((0, 1.15, 0), "spine"),
    "neck": ((0, 1.38, 0), "chest"), "head": ((0, 1.45, 0), "neck"),
    "leftEye": ((0.03, 1.52, 0.08), "head"), "rightEye": ((-0.03, 1.52, 0.08), "head"),
    "leftUpperArm": ((0.16, 1.35, 0), "chest"), "leftLowerArm": ((0.42, 1.35, 0), "leftUpperArm"),
    "leftHand": ((0.66, 1.35, 0), "leftLowerArm"), "rightUpperArm": ((-0.16, 1.35, 0), "chest"),
    "rightLowerArm": ((-0.42, 1.35, 0), "rightUpperArm"), "rightHand": ((-0.66, 1.35, 0), "rightLowerArm"),
    "leftUpperLeg": ((0.09, 0.86, 0), "hips"), "leftLowerLeg": ((0.09, 0.47, 0), "leftUpperLeg"),
    "leftFoot": ((0.09, 0.08, 0), "leftLowerLeg"), "leftToes": ((0.09, 0.02, 0.12), "leftFoot"),
    "rightUpperLeg": ((-0.09, 0.86, 0), "hips"), "rightLowerLeg": ((-0.09, 0.47, 0), "rightUpperLeg"),
    "rightFoot": ((-0.09, 0.08, 0), "rightLowerLeg"), "rightToes": ((-0.09, 0.02, 0.12), "rightFoot"),
    "tail_1": ((0, 0.95, -0.1), "hips"), "tail_2": ((0, 0.93, -0.25), "tail_1"), "tail_3": ((0, 0.9, -0.4), "tail_2"),
}  # fmt: skip
EXTRA = ("tail_1", "tail_2", "tail_3")
_BOX = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * 0.03
_SIDES = [[0, 1, 3], [0, 3, 2], [4, 6, 7], [4, 7, 5], [0, 4, 5], [0, 5, 1], [2, 3, 7], [2, 7, 6], [0, 2, 6], [0, 6, 4],
          [1, 5, 7], [1, 7, 3]]  # fmt: skip


def picture(color=(200, 80, 40)) -> bytes:
    """A small PNG."""
    out = io.BytesIO()
    Image.new("RGB", (4, 4), color).save(out, "PNG")
    return out.getvalue()


def body(forward: int = 1, mesh: bool = True) -> tuple[Gltf, dict[str, int]]:
    """The small body as glTF, looking along +Z (or, with -1, along -Z), with a box on each bone and two morphs; and the
    node of each bone."""
    names = list(BODY)
    nodes = [{"name": name} for name in names]
    turned = {name: np.array(place, dtype=float) * [forward, 1, forward] for name, (place, _) in BODY.items()}
    for name, (_, above) in BODY.items():
        place = turned[name] - (turned[above] if above else 0.0)
        nodes[names.index(name)]["translation"] = place.tolist()
        if above:
            nodes[names.index(above)].setdefault("children", []).append(names.index(name))
    made = Gltf(scene=0, scenes=[{"nodes": [0]}], nodes=nodes)
    number = {name: index for index, name in enumerate(names)}
    if not mesh:
        return made, number
    points = np.concatenate([turned[name] + _BOX for name in names])
    faces = np.concatenate([np.array(_SIDES) + 8 * index for index in range(len(names))])
    joints = np.repeat(np.arange(len(names)), 8)[:, None] * [1, 0, 0, 0]
    uvs = np.tile([[0.25, 0.125], [0.75, 0.125], [0.25, 0.625], [0.75, 0.875]], (len(points) // 4, 1))
    attributes = {
        "POSITION": made.add(points, bounds=True),
        "JOINTS_0": made.add(joints, "u1"),
        "WEIGHTS_0": made.add(np.tile([1, 0, 0, 0], (len(points), 1))),
        "TEXCOORD_0": made.add(uvs),
    }
    head = np.zeros((len(points), 3))
    head[8 * number["head"] : 8 * number["head"] + 8, 1] = 0.02
    targets = [{"POSITION": made.add(head * sign, bounds=True)} for sign in (1, -1)]
    made.json["images"] = [{"bufferView": made.view(picture()), "mimeType": "image/png"}]
    made.json["textures"] = [{"source": 0}]
    made.json["materials"] = [
        {"name": "skin", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}, "metallicFactor": 0}},
        {"name": "glass", "alphaMode": "BLEND", "doubleSided": True,
         "pbrMetallicRoughness": {"baseColorFactor": [0.2, 0.4, 0.6, 0.5], "metallicFactor": 0}},
    ]  # fmt: skip
    half = len(faces) // 2
    made.json["meshes"] = [{
        "name": "body",
        "primitives": [
            {"attributes": attributes, "indices": made.add(np.ravel(part), "<u2"), "material": look, "targets": targets}
            for look, part in enumerate((faces[:half], faces[half:]))
        ],
        "extras": {"targetNames": ["up", "down"]},
    }]  # fmt: skip
    binds = np.tile(np.eye(4), (len(names), 1, 1))
    binds[:, 3, :3] = [-turned[name] for name in names]
    made.json["skins"] = [{"joints": list(range(len(names))), "inverseBindMatrices": made.add(binds.reshape(-1, 16))}]
    made.json["nodes"].append({"name": "body", "mesh": 0, "skin": 0})
    made.json["scenes"][0]["nodes"].append(len(names))
    return made, number


def move(made: Gltf, number: dict[str, int]) -> None:
    """A clip of a second: an arm sinks, the hips go ahead, the face changes, the tail swings."""
    times = np.linspace(0.0, 1.0, 31)
    angle = np.sin(times * np.pi) * 0.7
    turn = np.stack([0 * angle, 0 * angle, np.sin(-angle / 2), np.cos(angle / 2)], axis=1)
    animate(made, number["leftUpperArm"], "rotation", times, turn)
    animate(made, number["tail_1"], "rotation", times, turn[:, [1, 2, 0, 3]])
    hips = np.array(BODY["hips"][0]) + np.stack([0 * times, 0 * times, 0.4 * times], axis=1)
    animate(made, number["hips"], "translation", times, hips)
    if "meshes" in made.json:
        weights = np.stack([times, 1 - times], axis=1).reshape(-1, 1)
        animate(made, len(number), "weights", times, weights)


@cache
def small_scene():
    """The small body with a clip, as a document: ``figure`` and ``clips``."""
    made, number = body()
    move(made, number)
    document = fairswap.load(made.glb(), format=".glb")
    return SimpleNamespace(figure=document.figure, clips=document.clips)


def avatar_extensions(number: dict[str, int]) -> dict:
    """All that VRM 1.0 knows, once each."""
    face = len(number)
    humanoid = {"humanBones": {name: {"node": node} for name, node in number.items() if name not in EXTRA}}
    return {
        "VRMC_vrm": {
            "specVersion": "1.0",
            "meta": {"name": "Wick", "authors": ["the troupe"], "licenseUrl": "https://vrm.dev/licenses/1.0/",
                     "avatarPermission": "everyone", "thumbnailImage": 0, "references": ["a lamp"]},
            "humanoid": humanoid,
            "expressions": {
                "preset": {
                    "happy": {"morphTargetBinds": [{"node": face, "index": 0, "weight": 1.0}], "overrideBlink": "block"},
                    "aa": {"morphTargetBinds": [{"node": face, "index": 1, "weight": 0.5}], "isBinary": True},
                },
                "custom": {
                    "blush": {"materialColorBinds": [{"material": 0, "type": "color", "targetValue": [1, 0, 0, 1]}],
                              "textureTransformBinds": [{"material": 0, "scale": [1, 1], "offset": [0.5, 0]}]},
                },
            },
            "lookAt": {"type": "bone", "offsetFromHeadBone": [0, 0.06, 0.08],
                       "rangeMapHorizontalInner": {"inputMaxValue": 90, "outputScale": 8}},
            "firstPerson": {"meshAnnotations": [{"node": face, "type": "thirdPersonOnly"}]},
        },
        "VRMC_springBone": {
            "specVersion": "1.0",
            "colliders": [{"node": number["leftUpperLeg"], "shape": {"sphere": {"offset": [0, -0.1, 0], "radius": 0.06}}}],
            "colliderGroups": [{"name": "legs", "colliders": [0]}],
            "springs": [{"name": "tail", "colliderGroups": [0], "center": number["hips"], "joints": [
                {"node": number[name], "stiffness": 0.6, "dragForce": 0.3} for name in EXTRA]}],
        },
    }  # fmt: skip


@cache
def small_avatar(old: bool = False) -> bytes:
    """The small body as an avatar of VRM 1.0; or of edition 0.x, which looks the other way."""
    made, number = body(-1 if old else 1)
    move(made, number)
    if old:
        listed = [{"bone": name, "node": node} for name, node in number.items() if name not in EXTRA]
        made.json["extensions"] = {"VRM": {
            "specVersion": "0.0", "humanoid": {"humanBones": listed},
            "meta": {"title": "Wick", "author": "the troupe", "allowedUserName": "OnlyAuthor"},
            "blendShapeMaster": {"blendShapeGroups": [
                {"name": "Joy", "presetName": "joy", "binds": [{"mesh": 0, "index": 0, "weight": 100}]},
                {"name": "A", "presetName": "a", "isBinary": True, "binds": [{"mesh": 0, "index": 1, "weight": 50}]},
                {"name": "Own", "presetName": "unknown", "binds": [{"mesh": 0, "index": 1, "weight": 100}]},
            ]},
        }}  # fmt: skip
    else:
        made.json["extensions"] = avatar_extensions(number)
        constraint = {"roll": {"source": number["rightUpperArm"], "rollAxis": "X", "weight": 0.5}}
        made.json["nodes"][number["rightLowerArm"]]["extensions"] = {
            "VRMC_node_constraint": {"specVersion": "1.0", "constraint": constraint}
        }
    made.json["extensionsUsed"] = [*made.json["extensions"], *([] if old else ["VRMC_node_constraint"])]
    return made.glb()


@cache
def small_avatar_motion() -> bytes:
    """A motion of the small body alone, with one expression and a gaze."""
    made, number = body(mesh=False)
    move(made, number)
    times = np.linspace(0.0, 1.0, 31)
    first = len(made.json["nodes"])
    made.json["nodes"] += [{"name": "smile"}, {"name": "wink of mine"}, {"name": "gaze"}]
    made.json["scenes"][0]["nodes"] += [first, first + 1, first + 2]
    for node in (first, first + 1):
        animate(made, node, "translation", times, np.stack([times, 0 * times, 0 * times], axis=1))
    look = 0.3 * times
    animate(
        made, first + 2, "rotation", times, np.stack([0 * look, np.sin(look / 2), 0 * look, np.cos(look / 2)], axis=1)
    )
    bones = {name: {"node": node} for name, node in number.items() if name not in EXTRA and "Eye" not in name}
    made.json["extensions"] = {"VRMC_vrm_animation": {
        "specVersion": "1.0", "humanoid": {"humanBones": bones},
        "expressions": {"preset": {"happy": {"node": first}}, "custom": {"wink of mine": {"node": first + 1}}},
        "lookAt": {"node": first + 2, "offsetFromHeadBone": [0, 0.06, 0.08]},
    }}  # fmt: skip
    made.json["extensionsUsed"] = ["VRMC_vrm_animation"]
    return made.glb()


def baked(text: str, rate: int, orders: str = "ZXY") -> str:
    """An X3D text with its clip as the baked motion of H-Anim 2.0 in place of interpolators: degrees frame by frame."""
    root = ElementTree.fromstring(text)
    scene = root.find("Scene")
    by_name = {one.get("DEF"): one for one in scene if one.get("DEF")}
    (clock,) = scene.iter("TimeSensor")
    frames = round(float(clock.get("cycleInterval")) * rate)
    fractions = np.arange(frames + 1) / frames
    joints, channels, columns = [], [], []
    moved: dict[str, dict[str, np.ndarray]] = {}
    for route in scene.iter("ROUTE"):
        if route.get("fromNode") != clock.get("DEF"):
            source = by_name[route.get("fromNode")]
            keys = np.array(source.get("key").split(), dtype=float)
            values = np.array(source.get("keyValue").split(), dtype=float).reshape(len(keys), -1)
            moved.setdefault(route.get("toNode"), {})[route.get("toField")] = _sampled(keys, values, fractions)
    for joint in scene.iter("HAnimJoint"):
        fields = moved.get(joint.get("DEF"), {})
        if joint.get("USE") or not fields:
            continue
        order = orders[len(joints) % (len(orders) // 3) * 3 :][:3]
        names = []
        if "set_translation" in fields:
            names += ["Xposition", "Yposition", "Zposition"]
            columns.append(fields["set_translation"])
        if "set_rotation" in fields:
            names += [f"{letter}rotation" for letter in order]
            columns.append(fields["set_rotation"].as_euler(order, degrees=True))
        joints.append(joint.get("name"))
        channels.append(f"{len(names)} {' '.join(names)}")
    for one in list(scene):
        if one.tag in ("TimeSensor", "ROUTE") or one.tag.endswith("Interpolator"):
            scene.remove(one)
    ElementTree.SubElement(scene.find("HAnimHumanoid"), "HAnimMotion", {
        "name": clock.get("description"), "frameDuration": str(1 / rate), "joints": ", ".join(joints),
        "channels": ", ".join(channels), "values": " ".join(f"{x:.9g}" for x in np.hstack(columns).ravel()),
    })  # fmt: skip
    return ElementTree.tostring(root, encoding="unicode")


def _sampled(keys, values, at):
    if values.shape[1] == 4:
        turns = Rotation.from_rotvec(values[:, :3] * values[:, 3:])
        return Slerp(keys, turns)(np.clip(at, keys[0], keys[-1])) if len(keys) > 1 else turns[np.zeros(len(at), int)]
    return np.stack([np.interp(at, keys, column) for column in values.T], axis=1)


def tube(top, bottom, rings=12, around=32):
    """Points and faces of a tube that widens: the height and the radius of each end, about the figure's middle."""
    (high, narrow), (low, wide) = top, bottom
    share = np.linspace(0.0, 1.0, rings)[:, None]
    angle = np.linspace(0.0, 2.0 * np.pi, around, endpoint=False)
    radius = narrow + (wide - narrow) * share
    places = [
        radius * np.sin(angle),
        np.broadcast_to(high + (low - high) * share, (rings, around)),
        radius * np.cos(angle),
    ]
    first = np.arange((rings - 1) * around).reshape(rings - 1, around)
    onward = np.roll(first, -1, axis=1)
    faces = [[first, onward, onward + around], [first, onward + around, first + around]]
    return np.stack(places, axis=2).reshape(-1, 3), np.concatenate(
        [np.stack(row, axis=2).reshape(-1, 3) for row in faces]
    )


def box_of(middle, half, fine=5):
    """Points and faces of a box, each side a grid."""
    line = np.linspace(-1.0, 1.0, fine)
    first, second = (grid.ravel() for grid in np.meshgrid(line, line, indexing="ij"))
    cell = (np.arange(fine - 1)[:, None] * fine + np.arange(fine - 1)).ravel()
    side = np.concatenate(
        [np.stack([cell, cell + 1, cell + fine + 1], 1), np.stack([cell, cell + fine + 1, cell + fine], 1)]
    )
    points, faces = [], []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            grid = np.insert(np.stack([first, second], axis=1), axis, sign, axis=1)
            faces.append(side + len(points) * fine**2)
            points.append(grid)
    return np.concatenate(points) * half + middle, np.concatenate(faces)
