"""Files written in the many ways of real exporters: each rewrite gives the same figure and motion in another form.

Nothing here uses the library: a ``.glb`` is taken apart by hand, changed, and put together again.
"""

from __future__ import annotations

import copy
import json
import struct
from collections.abc import Callable
from io import BytesIO

import numpy as np
from PIL import Image
from scipy.spatial.transform import Rotation, Slerp

WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
CODES = {value: key for key, value in TYPES.items()}


class Scene:
    """A ``.glb`` taken apart: the JSON, and the arrays of its accessors."""

    def __init__(self, data: bytes):
        size = struct.unpack_from("<I", data, 12)[0]
        self.json = json.loads(data[20 : 20 + size])
        binary = data[28 + size :]
        self.arrays = [self._read(row, binary) for row in self.json["accessors"]]
        self.images = {}
        for image in self.json.get("images", []):
            view = self.json["bufferViews"][image["bufferView"]]
            start = view.get("byteOffset", 0)
            self.images[image["bufferView"]] = binary[start : start + view["byteLength"]]
        # How vertex data is laid out, and which accessors only hold what differs from zero.
        self.interleaved, self.sparse = False, set()

    def _read(self, row, binary):
        kind, width = TYPES[row["componentType"]], WIDTHS[row["type"]]
        view = self.json["bufferViews"][row["bufferView"]]
        start = view.get("byteOffset", 0) + row.get("byteOffset", 0)
        item = np.dtype(kind).itemsize * width
        step = view.get("byteStride", item)
        raw = np.frombuffer(binary, np.uint8, (row["count"] - 1) * step + item, start)
        rows = np.lib.stride_tricks.as_strided(raw, (row["count"], item), (step, 1)).copy()
        return rows.view(kind).reshape(row["count"], width)

    @property
    def nodes(self):
        return self.json["nodes"]

    @property
    def joints(self):
        return sorted({joint for skin in self.json["skins"] for joint in skin["joints"]})

    def roots(self):
        return self.json["scenes"][0]["nodes"]

    def parent_of(self, node):
        return next((i for i, row in enumerate(self.nodes) if node in row.get("children", [])), None)

    def tops(self):
        """The joints that hang on no joint."""
        joints = set(self.joints)
        return [joint for joint in joints if self.parent_of(joint) not in joints]

    def add(self, values, kind="<f4", **more):
        """A new accessor."""
        values = np.atleast_2d(np.asarray(values, dtype=kind))
        width = values.shape[1]
        names = {width_: name for name, width_ in WIDTHS.items()}
        self.json["accessors"].append({"componentType": CODES[kind], "type": names[width], **more})
        self.arrays.append(values)
        return len(self.arrays) - 1

    def floats(self, index):
        """The numbers of an accessor as they are meant."""
        values = self.arrays[index]
        if not self.json["accessors"][index].get("normalized"):
            return values.astype(float)
        return np.maximum(values / np.iinfo(values.dtype).max, -1.0)

    def channels(self):
        for animation in self.json.get("animations", []):
            for channel in animation["channels"]:
                yield animation, channel, animation["samplers"][channel["sampler"]]

    def primitives(self):
        return [row for mesh in self.json["meshes"] for row in mesh["primitives"]]

    def bytes(self) -> bytes:
        """Put together again; every accessor in a view of its own, but interleaved vertex data."""
        views, binary = [], bytearray()

        def view(data: bytes, **more) -> int:
            binary.extend(bytes(-len(binary) % 4))
            views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(data), **more})
            binary.extend(data)
            return len(views) - 1

        document = copy.deepcopy(self.json)
        shared = {}
        if self.interleaved:
            for primitive in self.primitives():
                group = [n for n in primitive["attributes"].values() if n not in shared and n not in self.sparse]
                if not group:
                    continue
                parts = [self.arrays[n] for n in group]
                rows = [part.view(np.uint8).reshape(len(part), -1) for part in parts]
                padded = [np.pad(row, ((0, 0), (0, -row.shape[1] % 4))) for row in rows]
                number = view(
                    np.concatenate(padded, axis=1).tobytes(), byteStride=sum(p.shape[1] for p in padded), target=34962
                )
                at = 0
                for n, part in zip(group, padded, strict=True):
                    shared[n] = (number, at)
                    at += part.shape[1]
        for n, (row, array) in enumerate(zip(document["accessors"], self.arrays, strict=True)):
            array = np.ascontiguousarray(array)
            for key in ("bufferView", "byteOffset", "min", "max", "sparse"):
                row.pop(key, None)
            row["count"] = len(array)
            if n in self.sparse:
                at = np.flatnonzero(array.any(axis=1))
                at = at if len(at) else np.array([0])
                row["sparse"] = {
                    "count": len(at),
                    "indices": {"bufferView": view(at.astype("<u4").tobytes()), "componentType": 5125},
                    "values": {"bufferView": view(array[at].tobytes())},
                }
            elif n in shared:
                row["bufferView"], row["byteOffset"] = shared[n]
            else:
                size = array.dtype.itemsize * array.shape[1]
                loose = row["type"] != "SCALAR" and size % 4 and array.dtype.itemsize < 4 and row["type"] == "VEC3"
                rows = np.pad(array.view(np.uint8).reshape(len(array), -1), ((0, 0), (0, -size % 4 if loose else 0)))
                stride = {"byteStride": size + -size % 4, "target": 34962} if loose else {}
                row["bufferView"] = view(rows.tobytes(), **stride)
            if row["componentType"] in (5126, 5122) and row["type"] in ("SCALAR", "VEC3"):
                row["min"], row["max"] = array.min(axis=0).tolist(), array.max(axis=0).tolist()
        for image in document.get("images", []):
            image["bufferView"] = view(self.images[image["bufferView"]])
        document["bufferViews"], document["buffers"] = views, [{"byteLength": len(binary)}]
        text = json.dumps(document).encode()
        text += b" " * (-len(text) % 4)
        body = bytes(binary) + bytes(-len(binary) % 4)
        head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(body))
        return (
            head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(body), 0x004E4942) + body
        )


REWRITES: dict[str, Callable[[Scene], None]] = {}


def rewrite(function):
    REWRITES[function.__name__.replace("_", " ")] = function
    return function


def _above(scene: Scene, **node) -> None:
    """One node above all others."""
    scene.nodes.append({"name": "Armature", "children": list(scene.roots()), **node})
    scene.json["scenes"][0]["nodes"] = [len(scene.nodes) - 1]


def with_json(content, change):
    """A ``.glb`` whose JSON ``change`` has changed in place; the bytes after it are as they were."""
    (length,) = struct.unpack_from("<I", content, 12)
    document = json.loads(content[20 : 20 + length])
    change(document)
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    rest = content[20 + length :]
    return struct.pack("<4sIIII", b"glTF", 2, 20 + len(text) + len(rest), len(text), 0x4E4F534A) + text + rest


@rewrite
def lying_on_its_back(scene):
    _above(scene, rotation=Rotation.from_euler("x", 90, degrees=True).as_quat().tolist())


@rewrite
def facing_backwards(scene):
    _above(scene, rotation=[0.0, 1.0, 0.0, 0.0])


@rewrite
def a_giant(scene):
    _above(scene, scale=[100.0, 100.0, 100.0])


@rewrite
def a_speck(scene):
    _above(scene, scale=[0.01, 0.01, 0.01])


@rewrite
def under_a_turned_and_scaled_armature(scene):
    """Bones in centimetres, Z up, under a node that makes up for it: the skin's binds follow."""
    turn, size = Rotation.from_euler("x", -90, degrees=True), 0.01
    joints, tops = set(scene.joints), scene.tops()
    held = [scene.parent_of(top) for top in tops]
    scene.nodes.append({"name": "Armature", "rotation": turn.as_quat().tolist(), "scale": [size] * 3, "children": tops})
    armature = len(scene.nodes) - 1
    for top, parent in zip(tops, held, strict=True):
        row = scene.nodes[parent]["children"] if parent is not None else scene.roots()
        row.remove(top)
        row += [armature] if armature not in row else []

    def moved(values, top):
        return (turn.inv().apply(values) if top else np.asarray(values)) / size

    inside = _below(scene, tops)
    for node in inside:
        row = scene.nodes[node]
        if node in tops:
            row["rotation"] = (turn.inv() * Rotation.from_quat(row.get("rotation", [0, 0, 0, 1]))).as_quat().tolist()
        if "translation" in row:
            row["translation"] = moved(row["translation"], node in tops).tolist()
    done = {}
    for _, channel, sampler in scene.channels():
        node, path = channel["target"]["node"], channel["target"]["path"]
        if node not in inside or path not in ("rotation", "translation"):
            continue
        values = scene.floats(sampler["output"])
        if path == "translation":
            values = moved(values, node in tops)
        elif node in tops:
            values = values @ _times(turn.inv()).T  # linear, so that it serves tangents as well
        sampler["output"] = scene.add(values)
    for skin in scene.json["skins"]:
        binds = scene.arrays[skin["inverseBindMatrices"]].reshape(-1, 4, 4).transpose(0, 2, 1).astype(np.float64)
        binds[:, :3] /= size
        key = skin["inverseBindMatrices"]
        done.setdefault(key, scene.add(binds.transpose(0, 2, 1).reshape(-1, 16)))
        skin["inverseBindMatrices"] = done[key]
    assert inside >= joints


def _times(turn):
    """The matrix by which a rotation multiplies quaternions from the left."""
    x, y, z, w = turn.as_quat()
    return np.array([[w, -z, y, x], [z, w, -x, y], [-y, x, w, z], [-x, -y, -z, w]])


def _below(scene, tops):
    found, rest = set(), list(tops)
    while rest:
        node = rest.pop()
        found.add(node)
        rest += scene.nodes[node].get("children", [])
    return found


@rewrite
def nodes_as_matrices(scene):
    """Every node that nothing animates."""
    animated = {channel["target"]["node"] for _, channel, _ in scene.channels()}
    for index, node in enumerate(scene.nodes):
        if index in animated or "mesh" in node:
            continue
        matrix = np.eye(4)
        turn = Rotation.from_quat(node.pop("rotation", [0, 0, 0, 1])).as_matrix()
        matrix[:3, :3] = turn * np.array(node.pop("scale", [1, 1, 1]))
        matrix[:3, 3] = node.pop("translation", [0, 0, 0])
        node["matrix"] = matrix.T.ravel().tolist()


@rewrite
def joints_in_another_order(scene):
    """Each skin lists its joints backwards."""
    for skin_index, skin in enumerate(scene.json["skins"]):
        count = len(skin["joints"])
        skin["joints"].reverse()
        binds = scene.arrays[skin["inverseBindMatrices"]]
        skin["inverseBindMatrices"] = scene.add(binds[::-1])
        meshes = {node["mesh"] for node in scene.nodes if node.get("skin") == skin_index}
        done = {}
        for mesh in meshes:
            for primitive in scene.json["meshes"][mesh]["primitives"]:
                for name, old in list(primitive["attributes"].items()):
                    if name.startswith("JOINTS"):
                        if old not in done:
                            values = scene.arrays[old]
                            done[old] = scene.add(
                                (count - 1 - values.astype(np.int64)), TYPES[CODES[values.dtype.str.replace("|", "")]]
                            )
                        primitive["attributes"][name] = done[old]


@rewrite
def eight_influences(scene):
    """The weights of each vertex dealt out to two sets."""
    done = {}
    for primitive in scene.primitives():
        attributes = primitive["attributes"]
        if "WEIGHTS_0" not in attributes or "WEIGHTS_1" in attributes:
            continue
        key = attributes["WEIGHTS_0"], attributes["JOINTS_0"]
        if key not in done:
            weights, joints = scene.arrays[key[0]], scene.arrays[key[1]]
            kind = joints.dtype.str.replace("|", "")
            # Two in the first set, two in the second; what has no weight names the first joint.
            sets = []
            for columns in ([0, 1], [2, 3]):
                some = np.zeros_like(weights)
                some[:, :2] = weights[:, columns]
                names = np.zeros_like(joints)
                names[:, :2] = np.where(some[:, :2] > 0, joints[:, columns], 0)
                sets += [scene.add(some), scene.add(names, kind)]
            done[key] = sets
        first, bones, second, more = done[key]
        attributes |= {"WEIGHTS_0": first, "JOINTS_0": bones, "WEIGHTS_1": second, "JOINTS_1": more}


@rewrite
def weights_as_integers(scene):
    done = {}
    for primitive in scene.primitives():
        for name, old in list(primitive["attributes"].items()):
            if name.startswith("WEIGHTS") and scene.arrays[old].dtype == np.dtype("<f4"):
                if old not in done:
                    exact = scene.arrays[old].astype(np.float64) * 65535
                    whole = np.floor(exact).astype(np.int64)
                    short = 65535 - whole.sum(axis=1) if "_1" not in name else np.zeros(len(whole), dtype=np.int64)
                    whole[np.arange(len(whole)), whole.argmax(axis=1)] += np.where(np.abs(short) < 8, short, 0)
                    done[old] = scene.add(whole, "<u2", normalized=True)
                primitive["attributes"][name] = done[old]


@rewrite
def interleaved_vertices(scene):
    scene.interleaved = True


@rewrite
def sparse_morphs(scene):
    scene.sparse |= {
        number for row in scene.primitives() for target in row.get("targets", []) for number in target.values()
    }


@rewrite
def a_late_start(scene):
    """Keys from 0.5 s on: exporters write the time of the timeline."""
    for number in {sampler["input"] for _, _, sampler in scene.channels()}:
        scene.arrays[number] = (scene.arrays[number] + np.float32(0.5)).astype("<f4")


@rewrite
def cubic_splines(scene):
    """The same keys as splines, their tangents from the neighbours."""
    done = {}
    for _, channel, sampler in scene.channels():
        if sampler.get("interpolation", "LINEAR") != "LINEAR" or channel["target"]["path"] == "weights":
            continue
        key = sampler["input"], sampler["output"]
        if key not in done:
            times, values = scene.arrays[key[0]][:, 0].astype(float), scene.floats(key[1])
            if channel["target"]["path"] == "rotation":
                for i in range(1, len(values)):
                    values[i] *= 1.0 if values[i] @ values[i - 1] >= 0 else -1.0
            slope = np.gradient(values, times, axis=0) if len(times) > 1 else np.zeros_like(values)
            done[key] = scene.add(np.stack([slope, values, slope], axis=1).reshape(-1, values.shape[1]))
        sampler["output"], sampler["interpolation"] = done[key], "CUBICSPLINE"


@rewrite
def keys_only_where_needed_at_rounded_times(scene):
    """Keys that their neighbours make are left out, and times stand in whole milliseconds."""
    done = {}
    for _, _, sampler in scene.channels():
        key = sampler["input"], sampler["output"]
        if sampler.get("interpolation", "LINEAR") != "LINEAR" or len(scene.arrays[key[0]]) < 3:
            continue
        if key not in done:
            times, values = scene.arrays[key[0]], scene.floats(key[1])
            rows = values.reshape(len(times), -1)
            between = np.abs(rows[1:-1] - 0.5 * (rows[:-2] + rows[2:])).max(axis=1) > 1e-6
            # Never two neighbours at once: what is left out was measured against keys that stay.
            keep = np.r_[True, between | (np.arange(len(between)) % 2 == 1), True]
            held = values.reshape(len(times), -1, values.shape[1])[keep].reshape(-1, values.shape[1])
            done[key] = scene.add(np.round(times[keep], 3)), scene.add(held)
        sampler["input"], sampler["output"] = done[key]


def a_rest_frame_before_the_motion(scene):
    """One frame at rest before the first: no part of the motion, so none of the rewrites that give the same clip."""
    done = {}
    step = min(np.diff(scene.arrays[row["input"]][:, 0]).min(initial=1.0) for _, _, row in scene.channels())
    for _, channel, sampler in scene.channels():
        key, path = (sampler["input"], sampler["output"]), channel["target"]["path"]
        row = scene.nodes[channel["target"]["node"]]
        rest = {"rotation": row.get("rotation", [0, 0, 0, 1]), "translation": row.get("translation", [0, 0, 0])}.get(
            path
        )
        if rest is not None:
            times, values = scene.arrays[key[0]], scene.arrays[key[1]]
            if key[0] not in done:
                done[key[0]] = scene.add(np.r_[times[:1] - times[:1], times + np.float32(step)])
            sampler["input"], sampler["output"] = done[key[0]], scene.add(np.r_[[rest], values])


@rewrite
def names_in_another_script(scene):
    """Bones without meaning: their names are numbers in Greek."""
    for number, joint in enumerate(scene.joints):
        scene.nodes[joint]["name"] = f"οστό {number}"


@rewrite
def no_names(scene):
    for node in scene.nodes:
        node.pop("name", None)


@rewrite
def all_names_with_a_prefix(scene):
    for joint in scene.joints:
        scene.nodes[joint]["name"] = f"scene 7|rig:{scene.nodes[joint].get('name', '')}"


@rewrite
def a_prop_a_camera_and_a_light(scene):
    """Clutter: a turning prop, a camera, a light that is an extension."""
    turning = scene.add([[0, 0, 0, 1], [0, 1, 0, 0]])
    times = scene.add([[0.0], [1.0]])
    first = len(scene.nodes)
    scene.json.setdefault("cameras", []).append({"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}})
    scene.json.setdefault("extensions", {})["KHR_lights_punctual"] = {"lights": [{"type": "point"}]}
    scene.json.setdefault("extensionsUsed", []).append("KHR_lights_punctual")
    scene.nodes.extend([
        {"name": "lamp", "translation": [2.0, 0.0, 0.0]},
        {"name": "camera", "camera": len(scene.json["cameras"]) - 1, "translation": [0, 1, 5]},
        {"name": "sun", "extensions": {"KHR_lights_punctual": {"light": 0}}},
    ])  # fmt: skip
    scene.roots().extend(range(first, first + 3))
    row = {"sampler": 0, "target": {"node": first, "path": "rotation"}}
    sampler = {"input": times, "output": turning, "interpolation": "LINEAR"}
    scene.json.setdefault("animations", []).append({"name": "lamp turns", "channels": [row], "samplers": [sampler]})


@rewrite
def a_second_still_clip(scene):
    """One more clip with nothing but the rest pose, as many exporters leave behind."""
    tops = scene.tops()
    row = scene.nodes[tops[0]]
    turn = row.get("rotation", [0.0, 0.0, 0.0, 1.0])
    if "matrix" in row:
        return
    sampler = {"input": scene.add([[0.0], [1.0]]), "output": scene.add([turn, turn]), "interpolation": "LINEAR"}
    channel = {"sampler": 0, "target": {"node": tops[0], "path": "rotation"}}
    scene.json["animations"].append({"name": "rest", "channels": [channel], "samplers": [sampler]})


@rewrite
def rotations_with_jumping_signs(scene):
    """A quaternion and its negative are one rotation: every third key has the other sign, as some exporters write."""
    done = {}
    for _, channel, sampler in scene.channels():
        if channel["target"]["path"] == "rotation" and sampler.get("interpolation", "LINEAR") == "LINEAR":
            old = sampler["output"]
            if old not in done:
                values = scene.arrays[old].copy()
                values[2::3] *= -1
                done[old] = scene.add(values)
            sampler["output"] = done[old]


@rewrite
def every_channel_of_every_bone(scene):
    """Translation, rotation and scale on all joints, most of them constant: as baking writes it."""
    animation = scene.json["animations"][0]
    there = {(channel["target"]["node"], channel["target"]["path"]) for channel in animation["channels"]}
    times = np.unique(np.concatenate([scene.arrays[row["input"]][:, 0] for row in animation["samplers"]]))
    ends = scene.add(times[[0, -1]][:, None])
    plain = {"translation": [0.0, 0.0, 0.0], "rotation": [0.0, 0.0, 0.0, 1.0], "scale": [1.0, 1.0, 1.0]}
    for joint in scene.joints:
        if "matrix" in scene.nodes[joint]:
            continue
        for path, rest in plain.items():
            if (joint, path) not in there:
                value = scene.nodes[joint].get(path, rest)
                animation["samplers"].append(
                    {"input": ends, "output": scene.add([value, value]), "interpolation": "STEP"}
                )
                row = {"sampler": len(animation["samplers"]) - 1, "target": {"node": joint, "path": path}}
                animation["channels"].append(row)


@rewrite
def saved_in_mid_motion(scene):
    """The nodes as they stand a third into the first clip: the skin still knows how it was bound."""
    for _, channel, sampler in scene.channels():
        node, path = scene.nodes[channel["target"]["node"]], channel["target"]["path"]
        if path == "weights" or "matrix" in node:
            continue
        times, values = scene.arrays[sampler["input"]][:, 0], scene.arrays[sampler["output"]]
        each = values.reshape(len(times), -1, values.shape[1]) / (32767 if values.dtype.kind == "i" else 1)
        key = int(np.searchsorted(times, times[0] + (times[-1] - times[0]) / 3))
        node[path] = each[key, each.shape[1] // 2].astype(float).tolist()


@rewrite
def a_skin_for_each_part(scene):
    """Each primitive is a mesh of its own, its skin with only the joints that it needs."""
    for index in range(len(scene.nodes)):
        node = scene.nodes[index]
        if "skin" not in node or "mesh" not in node:
            continue
        mesh, skin = scene.json["meshes"][node["mesh"]], scene.json["skins"][node["skin"]]
        if len(mesh["primitives"]) < 2 or any("JOINTS_1" in row["attributes"] for row in mesh["primitives"]):
            continue
        binds = scene.arrays[skin["inverseBindMatrices"]]
        for number, primitive in enumerate(mesh["primitives"]):
            names = scene.arrays[primitive["attributes"]["JOINTS_0"]]
            used = np.unique(names[scene.arrays[primitive["attributes"]["WEIGHTS_0"]] > 0])
            place = np.zeros(len(skin["joints"]), dtype=np.int64)
            place[used] = np.arange(len(used))
            attributes = primitive["attributes"] | {"JOINTS_0": scene.add(place[names], "<u2")}
            scene.json["skins"].append(
                {"joints": [skin["joints"][j] for j in used], "inverseBindMatrices": scene.add(binds[used])}
            )
            scene.json["meshes"].append({**mesh, "primitives": [primitive | {"attributes": attributes}]})
            part = {"mesh": len(scene.json["meshes"]) - 1, "skin": len(scene.json["skins"]) - 1}
            if number == 0:
                node |= part
            else:
                scene.nodes.append({"name": f"part {number}", **part})
                scene.roots().append(len(scene.nodes) - 1)


@rewrite
def a_rigid_part_on_a_bone(scene):
    """A box hung on the last joint, as buttons and glasses are: no skin."""
    corners = np.array([[x, y, z] for x in (0, 0.02) for y in (0, 0.02) for z in (0, 0.02)], dtype=float)
    faces = [0, 1, 3, 0, 3, 2, 4, 6, 7, 4, 7, 5, 0, 4, 5, 0, 5, 1, 2, 3, 7, 2, 7, 6, 0, 2, 6, 0, 6, 4, 1, 5, 7, 1, 7, 3]
    primitive = {"attributes": {"POSITION": scene.add(corners)}, "indices": scene.add(np.array(faces)[:, None], "<u2")}
    scene.json["meshes"].append({"name": "box", "primitives": [primitive]})
    scene.nodes.append({"name": "box", "mesh": len(scene.json["meshes"]) - 1})
    scene.nodes[scene.joints[-1]].setdefault("children", []).append(len(scene.nodes) - 1)


def copied_skeleton(scene, name, keep=lambda node: True, size=1.0, keys=True) -> dict[int, int]:
    """A second copy of the joints that ``keep``, called by ``name``, beside the first: the copy of each node."""
    own = [top for top in scene.tops() if _below(scene, [top]) & {*scene.json["skins"][0]["joints"]}]
    inside = [node for node in sorted(_below(scene, own)) if keep(node) and "mesh" not in scene.nodes[node]]
    copies = {node: len(scene.nodes) + number for number, node in enumerate(inside)}
    for node, twin in copies.items():
        row = {key: scene.nodes[node][key] for key in ("translation", "rotation", "scale", "matrix")
               if key in scene.nodes[node]}  # fmt: skip
        if "translation" in row:
            row["translation"] = [size * part for part in row["translation"]]
        row["name"] = name(scene.nodes[node].get("name", ""))
        scene.nodes.append(row)
        children = [copies[child] for child in scene.nodes[node].get("children", []) if child in copies]
        if children:
            scene.nodes[twin]["children"] = children
    for node, twin in copies.items():
        parent = scene.parent_of(node)
        if parent is not None and parent not in copies:
            scene.nodes[parent].setdefault("children", []).append(twin)
        elif parent is None:
            scene.roots().append(twin)
    if keys:
        for animation, channel, sampler in list(scene.channels()):
            node, path = channel["target"]["node"], channel["target"]["path"]
            if node in copies and path in ("translation", "rotation", "scale"):
                sampler = dict(sampler)
                if path == "translation" and size != 1.0:
                    sampler["output"] = scene.add(scene.arrays[sampler["output"]] * size)
                animation["samplers"].append(sampler)
                row = {"sampler": len(animation["samplers"]) - 1, "target": {"node": copies[node], "path": path}}
                animation["channels"].append(row)
    return copies


def garment(scene, name, size=1.0, keys=True, joints=lambda node: True):
    """The first skinned mesh once more, on a copy of the skeleton; of vertices on left out joints, their parents."""
    node = next(row for row in scene.nodes if "skin" in row and "mesh" in row)
    skin = scene.json["skins"][node["skin"]]
    copies = copied_skeleton(scene, name, joints, size, keys)
    held = list(skin["joints"])
    for row, joint in enumerate(held):
        while joint not in copies:
            joint = scene.parent_of(joint)
        held[row] = joint
    unique = list(dict.fromkeys(held))
    binds = scene.arrays[skin["inverseBindMatrices"]]
    first = [skin["joints"].index(joint) for joint in unique]
    mesh = copy.deepcopy(scene.json["meshes"][node["mesh"]])
    place = np.array([unique.index(joint) for joint in held])
    for primitive in mesh["primitives"]:
        attributes = primitive["attributes"]
        for key in [key for key in attributes if key.startswith("JOINTS")]:
            attributes[key] = scene.add(place[scene.arrays[attributes[key]].astype(int)], "<u2")
        if size != 1.0:
            attributes["POSITION"] = scene.add(scene.arrays[attributes["POSITION"]] * size)
    own = binds[first].reshape(-1, 4, 4).copy()
    own[:, 3, :3] *= size
    scene.json["skins"].append({
        "joints": [copies[joint] for joint in unique], "inverseBindMatrices": scene.add(own.reshape(-1, 16)),
    })  # fmt: skip
    scene.json["meshes"].append({**mesh, "name": "cloak"})
    scene.nodes.append({"name": "cloak", "mesh": len(scene.json["meshes"]) - 1, "skin": len(scene.json["skins"]) - 1})
    scene.roots().append(len(scene.nodes) - 1)


@rewrite
def a_cloak_on_a_copy_of_the_skeleton(scene):
    """The usual: all bones again with a number after their names, keyed alike."""
    garment(scene, lambda name: f"{name}.001")


@rewrite
def a_cloak_on_a_few_bones_without_keys(scene):
    """Only trunk and arms, under names with something before them, and nothing moves them."""
    _, skin = next((row, row["skin"]) for row in scene.nodes if "skin" in row and "mesh" in row)
    joints = scene.json["skins"][skin]["joints"]
    few = set(joints[: max(12, len(joints) // 3)])
    for joint in list(few):
        parent = scene.parent_of(joint)
        while parent is not None and parent in _below(scene, scene.tops()):
            few.add(parent)
            parent = scene.parent_of(parent)
    garment(scene, lambda name: f"cloak_{name}", keys=False, joints=lambda node: node in few)


@rewrite
def a_cloak_two_per_cent_too_large(scene):
    """Made for another figure; under the very names of the body's bones."""
    garment(scene, lambda name: name, size=1.02)


@rewrite
def keys_on_a_driving_skeleton(scene):
    """The skin's own bones are not keyed: a copy without a skin has all the keys, and stands a metre aside."""
    copies = copied_skeleton(scene, lambda name: name)
    for animation in scene.json.get("animations", []):
        animation["channels"] = [row for row in animation["channels"] if row["target"]["node"] not in copies]
    tops = [top for top in copies.values() if scene.parent_of(top) not in copies.values()]
    above = scene.parent_of(tops[0])
    beside = scene.roots() if above is None else scene.nodes[above]["children"]
    scene.nodes.append({"name": "driver", "translation": [1.0, 0.0, 0.0], "children": tops})
    beside[:] = [node for node in beside if node not in tops] + [len(scene.nodes) - 1]


@rewrite
def all_bones_of_one_name(scene):
    for joint in scene.joints:
        scene.nodes[joint]["name"] = "bone"


@rewrite
def vertices_as_integers(scene):
    """Quantised: 16 bits over the extent of each mesh; the binds of the skin make up for it."""
    done = {}
    for number, skin in enumerate(scene.json["skins"]):  # one grid for all meshes of a skin
        worn = [row["mesh"] for row in scene.nodes if row.get("skin") == number and "mesh" in row]
        holders = [
            holder
            for mesh in worn
            for part in scene.json["meshes"][mesh]["primitives"]
            for holder in (part["attributes"], *part.get("targets", []))
        ]
        if not holders:
            continue
        grid = max(np.abs(scene.arrays[holder["POSITION"]]).max() for holder in holders) / 32000.0
        for holder in holders:
            old = holder["POSITION"]
            if (number, old) not in done:
                done[number, old] = scene.add(np.round(scene.arrays[old].astype(np.float64) / grid), "<i2")
            holder["POSITION"] = done[number, old]
        binds = scene.arrays[skin["inverseBindMatrices"]].reshape(-1, 4, 4).transpose(0, 2, 1).astype(np.float64)
        binds[:, :, :3] *= grid
        skin["inverseBindMatrices"] = scene.add(binds.transpose(0, 2, 1).reshape(-1, 16))
    for table in ("extensionsUsed", "extensionsRequired"):
        names = scene.json.setdefault(table, [])
        names += [] if "KHR_mesh_quantization" in names else ["KHR_mesh_quantization"]


@rewrite
def mirrored_below_a_mirroring_node(scene):
    """All data left for right, below a node that turns it back: how some programs change hands."""
    flip = np.array([-1.0, 1.0, 1.0])
    turned = np.array([1.0, -1.0, -1.0, 1.0])
    done = {}

    def changed(number, by):
        if number not in done:
            done[number] = scene.add(scene.floats(number) * by)
        return done[number]

    for node in scene.nodes:
        if "matrix" in node:
            mirror = np.diag([*flip, 1.0])
            node["matrix"] = (mirror @ np.array(node["matrix"]).reshape(4, 4).T @ mirror).T.ravel().tolist()
        if "translation" in node:
            node["translation"] = (flip * node["translation"]).tolist()
        if "rotation" in node:
            node["rotation"] = (turned * node["rotation"]).tolist()
    for _, channel, sampler in scene.channels():
        path = channel["target"]["path"]
        if path in ("translation", "rotation"):
            sampler["output"] = changed(sampler["output"], flip if path == "translation" else turned)
    for mesh in scene.json["meshes"]:
        for part in mesh["primitives"]:
            for holder in (part["attributes"], *part.get("targets", [])):
                for key in ("POSITION", "NORMAL"):
                    if key in holder and scene.arrays[holder[key]].dtype.kind == "f":
                        holder[key] = changed(holder[key], flip)
                    elif key in holder:
                        old = holder[key]
                        if old not in done:
                            done[old] = scene.add(scene.arrays[old] * np.array([-1, 1, 1], "i2"), "<i2")
                        holder[key] = done[old]
    for number in {skin["inverseBindMatrices"] for skin in scene.json["skins"]}:
        binds = scene.arrays[number].reshape(-1, 4, 4).astype(np.float64)
        mirror = np.diag([*flip, 1.0])
        new = scene.add((mirror @ binds @ mirror).reshape(-1, 16))
        for skin in scene.json["skins"]:
            if skin["inverseBindMatrices"] == number:
                skin["inverseBindMatrices"] = new
    _above(scene, scale=[-1.0, 1.0, 1.0])


@rewrite
def a_node_between_every_two_bones(scene):
    """Each bone rests on a node above it that nothing moves, and its keys are relative to that."""
    above = {}
    for joint in scene.joints:
        row = scene.nodes[joint]
        if {"matrix", "scale", "mesh"} & row.keys():
            continue
        turn, place = Rotation.from_quat(row.pop("rotation", [0, 0, 0, 1])), row.pop("translation", [0, 0, 0])
        parent = scene.parent_of(joint)
        beside = scene.roots() if parent is None else scene.nodes[parent]["children"]
        between = {"rotation": turn.as_quat().tolist(), "translation": place, "children": [joint]}
        scene.nodes.append(between | ({"name": f"{row['name']}_offset"} if "name" in row else {}))
        beside[beside.index(joint)] = len(scene.nodes) - 1
        above[joint] = turn, np.array(place)
    for _, channel, sampler in scene.channels():
        joint, path = channel["target"]["node"], channel["target"]["path"]
        if joint not in above or path not in ("rotation", "translation"):
            continue
        turn, place = above[joint]
        values = scene.floats(sampler["output"])
        if path == "rotation":
            values = values @ _times(turn.inv()).T
        else:
            off = np.tile(place, (len(values), 1))
            if sampler.get("interpolation") == "CUBICSPLINE":  # tangents have no place
                off[0::3] = off[2::3] = 0.0
            values = turn.inv().apply(values - off)
        sampler["output"] = scene.add(values)


@rewrite
def bones_with_rolled_axes(scene):
    """The axes of each bone lie anyhow."""
    still = Rotation.identity()
    rolls = {
        joint: Rotation.random(random_state=joint)
        for joint in scene.joints
        if not {"matrix", "scale", "mesh"} & scene.nodes[joint].keys()
    }
    parents = {node: scene.parent_of(node) for node in range(len(scene.nodes))}

    def changed(node, path, values):
        above, own = rolls.get(parents[node], still), rolls.get(node, still)
        if path == "translation":
            return above.inv().apply(values)
        return np.asarray(values, dtype=float) @ _times(above.inv()).T @ _times_right(own).T

    touched = [node for node in parents if node in rolls or parents[node] in rolls]
    for node in touched:
        row = scene.nodes[node]
        if "matrix" in row:
            matrix = np.array(row["matrix"]).reshape(4, 4).T
            matrix[:3] = rolls[parents[node]].inv().as_matrix() @ matrix[:3]
            row["matrix"] = matrix.T.ravel().tolist()
            continue
        row["rotation"] = changed(node, "rotation", row.get("rotation", [0, 0, 0, 1])).tolist()
        if "translation" in row:
            row["translation"] = changed(node, "translation", row["translation"]).tolist()
    for _, channel, sampler in scene.channels():
        node, path = channel["target"]["node"], channel["target"]["path"]
        if node in touched and path in ("rotation", "translation"):
            sampler["output"] = scene.add(changed(node, path, scene.floats(sampler["output"])))
    for skin in scene.json["skins"]:
        binds = scene.arrays[skin["inverseBindMatrices"]].reshape(-1, 4, 4).transpose(0, 2, 1).astype(float)
        for row, joint in enumerate(skin["joints"]):
            binds[row, :3] = rolls.get(joint, still).inv().as_matrix() @ binds[row, :3]
        skin["inverseBindMatrices"] = scene.add(binds.transpose(0, 2, 1).reshape(-1, 16))


def _times_right(turn):
    """The matrix by which a rotation multiplies quaternions from the right."""
    x, y, z, w = turn.as_quat()
    return np.array([[w, z, -y, x], [-z, w, x, y], [y, -x, w, z], [-x, -y, -z, w]])


@rewrite
def rotations_as_integers(scene):
    """Keys of 16 bits."""
    done = {}
    for _, channel, sampler in scene.channels():
        old = sampler["output"]
        if channel["target"]["path"] == "rotation" and sampler.get("interpolation", "LINEAR") != "CUBICSPLINE":
            if old not in done and scene.arrays[old].dtype.kind == "f":
                done[old] = scene.add(np.round(scene.floats(old) * 32767), "<i2", normalized=True)
            sampler["output"] = done.get(old, old)


@rewrite
def an_animation_for_each_bone(scene):
    """As exporters do that write object by object: none of them is a motion by itself."""
    rows = []
    for animation in scene.json["animations"]:
        by_node = {}
        for channel in animation["channels"]:
            by_node.setdefault(channel["target"]["node"], []).append(channel)
        for node, channels in by_node.items():
            samplers = [animation["samplers"][channel["sampler"]] for channel in channels]
            rows.append({
                "name": f"{animation['name']}|{scene.nodes[node].get('name', node)}",
                "channels": [{**channel, "sampler": number} for number, channel in enumerate(channels)],
                "samplers": samplers,
            })  # fmt: skip
    scene.json["animations"] = rows


@rewrite
def triangles_by_themselves(scene):
    """No vertex is shared: flat shading, or a program that knows no indices."""

    def one_each(old, corners):
        normalized = {"normalized": True} if scene.json["accessors"][old].get("normalized") else {}
        values = scene.arrays[old]
        return scene.add(values[corners], values.dtype.str.replace("|", ""), **normalized)

    for primitive in scene.primitives():
        if "indices" not in primitive:
            continue
        corners = scene.arrays[primitive.pop("indices")].ravel()

        def dealt(holder, corners=corners):
            return {key: one_each(old, corners) for key, old in holder.items()}

        primitive["attributes"] = dealt(primitive["attributes"])
        if "targets" in primitive:
            primitive["targets"] = [dealt(target) for target in primitive["targets"]]


@rewrite
def a_floor_and_a_backdrop(scene):
    """Scenery, forty times as wide as the figure."""
    floor = [[-40, 0, -40], [40, 0, -40], [40, 0, 40], [-40, 0, 40]]
    backdrop = [[-40, -1, -30], [40, -1, -30], [40, 50, -30], [-40, 50, -30]]
    for name, corners in (("floor", floor), ("backdrop", backdrop)):
        faces = scene.add(np.array([[0], [2], [1], [0], [3], [2]]), "<u2")
        part = {"attributes": {"POSITION": scene.add(corners)}, "indices": faces}
        scene.json["meshes"].append({"name": name, "primitives": [part]})
        scene.nodes.append({"name": name, "mesh": len(scene.json["meshes"]) - 1})
        scene.roots().append(len(scene.nodes) - 1)


@rewrite
def travel_on_a_node_above(scene):
    """What carries the hips over the ground carries the node above all bones instead."""
    inside = _below(scene, scene.tops())
    moving = [row for row in scene.channels()
              if row[1]["target"]["path"] == "translation" and row[1]["target"]["node"] in inside]  # fmt: skip
    moving = [row for row in moving if np.ptp(scene.arrays[row[2]["output"]], axis=0).max() > 0.01]
    if len(moving) != 1 or moving[0][2].get("interpolation") == "CUBICSPLINE":
        return
    animation, channel, sampler = moving[0]
    linear = np.eye(3)
    node = scene.parent_of(channel["target"]["node"])
    while node is not None:
        row = scene.nodes[node]
        if "matrix" in row:
            return
        linear = (
            Rotation.from_quat(row.get("rotation", [0, 0, 0, 1])).as_matrix() * row.get("scale", [1, 1, 1]) @ linear
        )
        node = scene.parent_of(node)
    values = scene.floats(sampler["output"])
    travel = (values - values[0]) @ linear.T * [1.0, 0.0, 1.0]
    sampler["output"] = scene.add(values - travel @ np.linalg.inv(linear).T)
    roots = [root for root in scene.roots() if inside & _below(scene, [root])]
    scene.nodes.append({"name": "Mover", "children": roots})
    scene.roots()[:] = [root for root in scene.roots() if root not in roots] + [len(scene.nodes) - 1]
    animation["samplers"].append({"input": sampler["input"], "output": scene.add(travel), "interpolation": "LINEAR"})
    target = {"node": len(scene.nodes) - 1, "path": "translation"}
    animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})


def pictures_of_an_extension(scene, extension, kind, change, own=False):
    """Every picture of another kind, named by an extension; with ``own``, the texture still names a picture, too."""
    for texture in scene.json["textures"]:
        texture["extensions"] = {extension: {"source": texture["source"]}}
        if not own:
            del texture["source"]
    for image in scene.json["images"]:
        scene.images[image["bufferView"]] = change(scene.images[image["bufferView"]])
        image["mimeType"] = kind
    for key in ("extensionsUsed", "extensionsRequired"):
        scene.json[key] = [*scene.json.get(key, []), extension]


@rewrite
def pictures_as_webp(scene):
    def as_webp(data):
        out = BytesIO()
        Image.open(BytesIO(data)).save(out, "WEBP", lossless=True)
        return out.getvalue()

    pictures_of_an_extension(scene, "EXT_texture_webp", "image/webp", as_webp)


def _add_joint(scene, parent, row, like=None):
    """One more joint for every skin, that no vertex follows."""
    scene.nodes.append(row)
    number = len(scene.nodes) - 1
    children = scene.nodes[parent].setdefault("children", [])
    children.insert(0, number)
    for skin in scene.json["skins"]:
        binds = scene.arrays[skin["inverseBindMatrices"]]
        first = skin["joints"].index(like) if like in skin["joints"] else 0
        skin["inverseBindMatrices"] = scene.add(np.concatenate([binds, binds[[first]]]))
        skin["joints"].append(number)
    return number


def _matrix(row):
    """The matrix of a node, from its parts."""
    out = np.eye(4)
    out[:3, :3] = Rotation.from_quat(row.get("rotation", [0, 0, 0, 1])).as_matrix() * row.get("scale", [1, 1, 1])
    out[:3, 3] = row.get("translation", [0, 0, 0])
    return out


def _hung_elsewhere(scene, limbs, common, holder):
    """Limbs hang below ``holder`` (at the place of ``common``, a node above both) and are carried along by keys."""
    joints = set(scene.joints)
    for limb in limbs:
        way, node = [limb], scene.parent_of(limb)
        while node != common:
            way.insert(0, node)
            node = scene.parent_of(node)
        assert joints >= set(way)
        for animation in scene.json.get("animations", []):
            keys = {}
            for channel in animation["channels"]:
                if channel["target"]["node"] in way and channel["target"]["path"] in ("rotation", "translation"):
                    sampler = animation["samplers"][channel["sampler"]]
                    assert sampler.get("interpolation", "LINEAR") == "LINEAR"
                    value = scene.arrays[sampler["input"]][:, 0], scene.floats(sampler["output"])
                    keys[channel["target"]["node"], channel["target"]["path"]] = value
            if not keys:
                continue
            times = np.unique(np.concatenate([at for at, _ in keys.values()]))
            whole = np.tile(np.eye(4), (len(times), 1, 1))
            for one in way:
                local = np.tile(_matrix(scene.nodes[one]), (len(times), 1, 1))
                if (one, "rotation") in keys:
                    at, turns = keys[one, "rotation"]
                    turned = (
                        Slerp(at, Rotation.from_quat(turns))
                        if len(at) > 1
                        else lambda t, q=turns: Rotation(q[[0] * len(t)])
                    )
                    local[:, :3, :3] = turned(times.clip(at[0], at[-1])).as_matrix()
                if (one, "translation") in keys:
                    at, places = keys[one, "translation"]
                    local[:, :3, 3] = np.stack([np.interp(times, at, column) for column in places.T], axis=1)
                whole = whole @ local
            animation["channels"] = [row for row in animation["channels"] if row["target"]["node"] != limb]
            clock = scene.add(times[:, None])
            for path, values in (
                ("rotation", Rotation.from_matrix(whole[:, :3, :3]).as_quat()),
                ("translation", whole[:, :3, 3]),
            ):
                animation["samplers"].append({"input": clock, "output": scene.add(values), "interpolation": "LINEAR"})
                target = {"node": limb, "path": path}
                animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
        rest = np.linalg.multi_dot([np.eye(4), *(_matrix(scene.nodes[one]) for one in way)])
        scene.nodes[scene.parent_of(limb)]["children"].remove(limb)
        scene.nodes[limb]["rotation"] = Rotation.from_matrix(rest[:3, :3]).as_quat().tolist()
        scene.nodes[limb]["translation"] = rest[:3, 3].tolist()
        row = scene.nodes[holder].setdefault("children", []) if holder is not None else scene.roots()
        row.append(limb)


def _limbs(scene):
    """The two arms, which hold most joints of all twins, and the two legs, which hold fewer and begin lower."""
    joints, most = set(scene.joints), {}
    for joint in joints:
        sizes = {child: len(_below(scene, [child]) & joints) for child in scene.nodes[joint].get("children", [])}
        for child, size in sizes.items():
            if size >= 3 and list(sizes.values()).count(size) == 2 and child in joints:
                most.setdefault(size, []).append(child)
    return [pair for size, pair in sorted(most.items(), reverse=True)][:2]


@rewrite
def arms_on_a_control_bone(scene):
    """A bone without skin beside the trunk holds the arms; keys of their own keep them at the shoulders."""
    arms, _ = _limbs(scene)
    top = scene.tops()[0]
    control = _add_joint(scene, top, {"name": "steers", "translation": [0.0, 0.0, 0.0]}, top)
    _hung_elsewhere(scene, arms, top, control)


@rewrite
def legs_that_hang_on_nothing(scene):
    """Legs are roots of their own beside the body."""
    _, legs = _limbs(scene)
    above = scene.parent_of(scene.tops()[0])
    _hung_elsewhere(scene, legs, above, above)


@rewrite
def feet_on_control_bones(scene):
    """Feet hang on bones without skin below the root, as goals of legs; keys of their own keep them at the ankles."""
    _, legs = _limbs(scene)
    top, joints = scene.tops()[0], set(scene.joints)
    for number, leg in enumerate(legs):
        knee = max(scene.nodes[leg]["children"], key=lambda node: len(_below(scene, [node]) & joints))
        foot = max(scene.nodes[knee]["children"], key=lambda node: len(_below(scene, [node]) & joints))
        place = {"name": f"goal {number}", "translation": [0.0, 0.0, 0.0]}
        _hung_elsewhere(scene, [foot], top, _add_joint(scene, top, place, top))


@rewrite
def hips_on_the_floor(scene):
    """The joint of the bone that legs and spine hang on is on the floor, where others have a root."""
    hips = scene.parent_of(_limbs(scene)[1][0])
    row = scene.nodes[hips]
    moved = [one for one in scene.channels() if one[1]["target"]["node"] in (hips, *row["children"])]
    if "matrix" in row or any(one[2].get("interpolation", "LINEAR") != "LINEAR" for one in moved):
        return
    local, world, node = _matrix(row), np.eye(4), hips
    while node is not None:
        world, node = _matrix(scene.nodes[node]) @ world, scene.parent_of(node)
    down = np.linalg.solve(world[:3, :3], [0.0, -world[1, 3], 0.0])
    for animation in scene.json.get("animations", []):
        keys = {}
        for channel in animation["channels"]:
            sampler, target = animation["samplers"][channel["sampler"]], channel["target"]
            if target["node"] == hips:
                keys[target["path"]] = scene.arrays[sampler["input"]][:, 0], scene.floats(sampler["output"])
            elif target["node"] in row["children"] and target["path"] == "translation":
                sampler["output"] = scene.add(scene.floats(sampler["output"]) - down)
        if not keys:
            continue
        times = np.unique(np.concatenate([at for at, _ in keys.values()]))
        turned = np.tile(local[:3, :3], (len(times), 1, 1))
        if "rotation" in keys and len(keys["rotation"][0]) > 1:
            at, turns = keys["rotation"]
            turned = Slerp(at, Rotation.from_quat(turns))(times.clip(at[0], at[-1])).as_matrix()
        elif "rotation" in keys:
            turned[:] = Rotation.from_quat(keys["rotation"][1][0]).as_matrix()
        places = np.tile(local[:3, 3], (len(times), 1))
        if "translation" in keys:
            at, values = keys["translation"]
            places = np.stack([np.interp(times, at, column) for column in values.T], axis=1)
        animation["channels"] = [
            one for one in animation["channels"] if one["target"] != {"node": hips, "path": "translation"}
        ]
        output = scene.add(places + turned @ down)
        clock = scene.add(times[:, None])
        animation["samplers"].append({"input": clock, "output": output, "interpolation": "LINEAR"})
        target = {"node": hips, "path": "translation"}
        animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
    row["translation"] = (local[:3, 3] + local[:3, :3] @ down).tolist()
    for child in row["children"]:
        place = np.array(scene.nodes[child].get("translation", [0.0, 0.0, 0.0])) - down
        scene.nodes[child]["translation"] = place.tolist()
    shift = np.eye(4)
    shift[:3, 3] = -down
    for skin in scene.json["skins"]:
        if hips in skin["joints"]:
            binds, number = scene.arrays[skin["inverseBindMatrices"]], skin["joints"].index(hips)
            binds[number] = (shift @ binds[number].reshape(4, 4).T).T.ravel()


def sockets_that_hold_no_skin(scene):
    """Points to hang things on, all over the body, listed as joints."""
    dice, joints = np.random.default_rng(2), scene.joints
    size = max(np.linalg.norm(scene.nodes[joint].get("translation", [0, 0, 0])) for joint in joints)
    for number in range(40):
        place = (0.3 * size * dice.normal(size=3)).tolist()
        _add_joint(scene, joints[dice.integers(len(joints))], {"name": f"CTRL_{number}", "translation": place})


def limbs_again_without_skin(scene):
    """A rig's own limbs, for targets, beside those that hold the skin, and chains of targets on the first bone."""
    joints = {*scene.joints}

    def below(node):
        return [child for child in scene.nodes[node].get("children", []) if child in joints]

    def again(node, parent):
        row = {key: value for key, value in scene.nodes[node].items() if key not in ("children", "mesh", "skin")}
        row |= {"name": f"{row['name']}_ik"} if "name" in row else {}
        twin = _add_joint(scene, parent, row, node)
        for child in below(node):
            again(child, twin)

    limbs = [(limb, joint) for joint in sorted(joints) if len(below(joint)) >= 3 for limb in below(joint)]
    limbs = [(limb, joint) for limb, joint in limbs if len(_below(scene, [limb]) & joints) >= 3]
    taken: set[int] = set()
    for limb, joint in limbs:
        if limb not in taken:
            taken |= _below(scene, [limb])
            again(limb, joint)
    first = scene.tops()[0]
    for chain in range(4):
        last = first
        for number in range(4):
            place = [0.1 * (chain - 2), 0.15 * number, 0.1]
            last = _add_joint(scene, last, {"name": f"target {chain} {number}", "translation": place})


def rewritten(data: bytes, *names: str) -> bytes:
    """The file, rewritten in these ways one after another."""
    scene = Scene(data)
    last = "an animation for each bone"  # what is written object by object is so whatever was done before
    for name in sorted(names, key=lambda name: name == last):
        REWRITES[name](scene)
    return scene.bytes()
