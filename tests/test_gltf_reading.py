"""Reading glTF: every way to store a number, every way to hang a skin on bones."""

import base64
import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.formats.gltf.accessors import array_from_accessor, floats_from_accessor
from fairswap.formats.gltf.opening import open_container
from fairswap.model.mesh import deformed_vertices
from fairswap.model.rotation import angle_between, matrix_from_quaternion, quaternion_from_axis_angle
from judging import validated
from making import TROUPE, Gltf, animate, arm, figure
from rewrites import Scene

QUARTER = quaternion_from_axis_angle([1, 0, 0], -np.pi / 2)


def accessor_of(made, folder, index=0, width=None):
    return floats_from_accessor(open_container(made.write(folder / "a.glb")), index, "test", width)


@pytest.mark.parametrize("dtype", ["i1", "u1", "<i2", "<u2", "<u4", "<f4"])
def test_every_component_type(dtype, tmp_path):
    made = Gltf()
    made.add([[1, 2, 3], [4, 5, 120]], dtype)
    assert accessor_of(made, tmp_path).tolist() == [[1, 2, 3], [4, 5, 120]]


@pytest.mark.parametrize(
    ("dtype", "low", "high"), [("i1", -128, 127), ("u1", 0, 255), ("<i2", -32768, 32767), ("<u2", 0, 65535)]
)
def test_normalized_integers_are_their_share_of_the_range(dtype, low, high, tmp_path):
    made = Gltf()
    made.add([low, 0, high], dtype, normalized=True)
    assert accessor_of(made, tmp_path)[:, 0].tolist() == [-1.0 if low else 0.0, 0.0, 1.0]


def test_strides_skip_what_lies_between(tmp_path):
    made = Gltf()
    rows = np.arange(20, dtype="<f4").reshape(4, 5)
    view = made.view(rows.tobytes(), byteStride=20)
    made.json["accessors"].append(
        {"bufferView": view, "byteOffset": 4, "componentType": 5126, "count": 4, "type": "VEC3"}
    )
    assert accessor_of(made, tmp_path).tolist() == rows[:, 1:4].tolist()


def test_sparse_replaces_some_and_a_missing_view_is_zeros(tmp_path):
    made = Gltf()
    indices, values = made.view(np.array([1, 3], "u1").tobytes()), made.view(np.array([[7, 8, 9]] * 2, "<f4").tobytes())
    sparse = {"count": 2, "indices": {"bufferView": indices, "componentType": 5121}, "values": {"bufferView": values}}
    made.json["accessors"].append({"componentType": 5126, "count": 4, "type": "VEC3", "sparse": sparse})
    assert accessor_of(made, tmp_path).tolist() == [[0, 0, 0], [7, 8, 9], [0, 0, 0], [7, 8, 9]]


def test_values_are_not_copied_without_need(tmp_path):
    made = Gltf()
    made.add(np.zeros((1000, 3)))
    values = array_from_accessor(open_container(made.write(tmp_path / "a.glb")), 0, "test")
    assert not values.flags.owndata


def test_a_gltf_with_a_file_beside_it_and_one_with_a_data_uri_are_the_same(tmp_path):
    made = arm()
    glb = made.load(tmp_path)
    binary = bytes(made.binary)
    (tmp_path / "with space.bin").write_bytes(binary)
    for name, uri in (
        ("f", "with%20space.bin"),
        ("d", "data:application/octet-stream;base64," + base64.b64encode(binary).decode()),
    ):
        document = {**made.json, "buffers": [{"byteLength": len(binary), "uri": uri}]}
        (tmp_path / f"{name}.gltf").write_text(json.dumps(document))
        other = fairswap.load(tmp_path / f"{name}.gltf")
        assert np.array_equal(other.figure.meshes[0].vertices, glb.figure.meshes[0].vertices)
        assert np.array_equal(other.clips[0].rotations, glb.clips[0].rotations)


def bent(document, seconds=1.0):
    """World positions of the wrist, and the deformed vertices, at a time."""
    clip = document.clips[0]
    world = clip.at([seconds]).world()
    return world.positions[0, clip.bone("wrist")], deformed_vertices(document.figure.meshes[0], world, 0)


def test_a_bone_bends_and_takes_its_vertices_along(tmp_path):
    wrist, vertices = bent(arm().load(tmp_path))
    assert np.allclose(wrist, [-0.4 * np.sin(1.2), 1.5 + 0.4 * np.cos(1.2), 0], atol=1e-6)
    assert np.allclose(vertices[0], [-0.1, 2.0, 0], atol=1e-6)  # bound without matrices: moved by the whole bone


@pytest.mark.parametrize(
    "top",
    [
        {"scale": [2, 2, 2]},
        {"scale": [-1, 1, 1]},
        {"rotation": QUARTER.tolist(), "scale": [0.01, 0.01, 0.01], "translation": [0, 0.3, 0]},
        {"matrix": [0, 2, 0, 0, -2, 0, 0, 0, 0, 0, 2, 0, 0.1, 0.2, 0.3, 1]},
    ],
)  # fmt: skip
def test_a_scale_or_turn_above_the_skeleton_is_folded_into_it(top, tmp_path):
    """The same motion, seen through the node above: in every frame exactly, mirrored too."""
    plain, folded = arm().load(tmp_path), arm(**top).load(tmp_path, "f.glb")
    above = folded.figure.source.container.document.nodes[0]
    matrix = np.array(above.matrix).reshape(4, 4).T if above.matrix else np.eye(4)
    if not above.matrix:
        matrix[:3, :3] = matrix_from_quaternion(above.rotation or [0, 0, 0, 1]) * np.array(above.scale)
        matrix[:3, 3] = above.translation or [0, 0, 0]
    # Where the figure came out tiny, it was taken for another unit: undo that to compare.
    for seconds in (0.0, 0.3, 1.0):
        (wrist, _), (seen, _) = bent(plain, seconds), bent(folded, seconds)
        expected = matrix[:3, :3] @ wrist + matrix[:3, 3]
        factor = np.linalg.norm(seen) / np.linalg.norm(expected)
        assert np.allclose(seen, expected * factor, atol=1e-6)
    lengths = np.linalg.norm(folded.figure.skeleton.rest_rotations, axis=1)
    assert np.allclose(lengths, 1.0)


def test_an_uneven_scale_is_exact_at_rest_and_told(tmp_path):
    made = arm()
    made.json["nodes"][1]["scale"] = [1, 2, 1]
    document = made.load(tmp_path)
    rest = document.figure.skeleton.rest.positions[0]
    assert np.allclose(rest[document.figure.skeleton.names.index("wrist")], [0, 1 + 2 * 0.9, 0])
    assert "uneven-scale" in {finding.code for finding in document.findings}


def test_more_than_four_influences_come_in_further_sets(tmp_path):
    made = arm()
    primitive = made.json["meshes"][0]["primitives"][0]
    primitive["attributes"]["JOINTS_1"] = made.add([[2, 1, 0, 0]] * 8, "<u2")
    primitive["attributes"]["WEIGHTS_0"] = made.add([[0.5, 0, 0, 0]] * 8)
    primitive["attributes"]["WEIGHTS_1"] = made.add([[0.25, 0.25, 0, 0]] * 8)
    found = made.load(tmp_path).figure
    assert found.meshes[0].joints.shape == (8, 8)
    assert found.max_influences == 3
    assert np.allclose(found.meshes[0].weights.sum(axis=1), 1.0)


def test_morph_targets_with_names_move_by_the_weights_of_mesh_node_and_clip(tmp_path):
    made = arm()
    raw = made.json["meshes"][0]
    raw["primitives"][0]["targets"] = [{"POSITION": made.add(np.full((8, 3), 0.1), bounds=True)}] * 2
    raw |= {"weights": [0.0, 0.25], "extras": {"targetNames": ["wide", "tall"]}}
    animate(made, 4, "weights", [0, 1], [0.0, 0.0, 1.0, 0.5])
    document = made.load(tmp_path)
    mesh, clip = document.figure.meshes[0], document.clips[0]
    assert mesh.morph_names == ("wide", "tall")
    assert mesh.morph_weights.tolist() == [0.0, 0.25]
    poses = clip.at([0.5])
    assert np.allclose(poses.morph_tracks[0].weights[:, 0], [0.5, 0.25])
    rest = deformed_vertices(mesh, clip.skeleton.rest, 0)
    moved = deformed_vertices(mesh, clip.skeleton.rest, 0, poses)
    assert np.allclose(moved - rest, 0.1 * (0.75 - 0.25))
    made.json["nodes"][4]["weights"] = [1.0, 1.0]
    assert made.load(tmp_path).figure.meshes[0].morph_weights.tolist() == [1.0, 1.0]


def test_step_linear_and_cubic_keys_at_unequal_times(tmp_path):
    made = arm()
    del made.json["animations"]
    turn = [quaternion_from_axis_angle([0, 0, 1], a).tolist() for a in (0.0, 1.0, 0.2)]
    zero = [0.0] * 4
    animate(made, 1, "rotation", [0, 0.4, 1.0], turn, "STEP")
    animate(made, 2, "rotation", [0, 0.7, 1.0], turn)
    animate(made, 3, "rotation", [0, 1.0], [zero, turn[0], zero, zero, turn[1], zero], "CUBICSPLINE")
    animate(made, 3, "translation", [0.1, 0.3], [[0, 0.4, 0], [0, 0.8, 0]])
    clip = made.load(tmp_path).clips[0]
    assert clip.duration_s == pytest.approx(1.0)

    def angle(bone, seconds):
        q = clip.at([seconds]).rotations[0, clip.bone(bone)]
        return 2 * np.arctan2(q[2], q[3])

    assert angle("shoulder", 0.3) == pytest.approx(0.0)
    assert angle("shoulder", 0.5) == pytest.approx(1.0)
    assert angle("elbow", 0.35) == pytest.approx(0.5)
    a, b = np.array(turn[0]), np.array(turn[1])  # a spline with level tangents: half way at half time
    assert angle_between(clip.at([0.5]).rotations[0, clip.bone("wrist")], (a + b) / np.linalg.norm(a + b)) < 1e-6
    assert np.allclose(clip.at([0.2]).translations[0, clip.bone("wrist")], [0, 0.6, 0])
    assert np.allclose(clip.at([0.0, 1.0]).translations[:, clip.bone("wrist"), 1], [0.4, 0.8])


def test_quantised_keys(tmp_path):
    made = arm()
    del made.json["animations"]
    animate(made, 2, "rotation", [0, 1], [[0, 0, 0, 32767], [0, 0, 32767, 0]], "LINEAR", "<i2", normalized=True)
    clip = made.load(tmp_path).clips[0]
    assert np.allclose(np.abs(clip.at([1.0]).rotations[0, clip.bone("elbow")]), [0, 0, 1, 0], atol=1e-4)


@pytest.mark.parametrize(("rate", "frames"), [(30, 40), (24, 100), (60, 3601), (Fraction(30000, 1001), 500), (25, 2)])
def test_the_rate_of_single_precision_keys_is_exact(rate, frames, tmp_path):
    made = arm()
    del made.json["animations"]
    times = np.arange(frames) / float(rate)
    animate(made, 2, "rotation", times, np.tile([0.0, 0, 0, 1], (frames, 1)))
    clip = made.load(tmp_path).clips[0]
    assert (clip.rate, clip.frames) == (rate, frames)


def test_keys_at_odd_times_keep_the_duration_and_are_told(tmp_path):
    made = arm()
    del made.json["animations"]
    times = [0, 0.1234, 0.7071, 2.71828]
    animate(made, 2, "rotation", times, [[0, 0, np.sin(t), np.cos(t)] for t in times])
    document = made.load(tmp_path)
    assert document.clips[0].duration_s == pytest.approx(2.71828, abs=1e-6)
    assert "uneven-keys" in {finding.code for finding in document.findings}


def _turning(frames: int) -> tuple[np.ndarray, np.ndarray]:
    times = np.arange(frames) / 30
    return times, np.stack([0 * times, 0 * times, np.sin(times), np.cos(times)], axis=1)


def _shuffled(made, times, turns):
    order = np.random.default_rng(3).permutation(len(times))
    animate(made, 2, "rotation", times[order], turns[order])


def _empty_and_no_numbers(made, times, turns):
    broken = turns.copy()
    broken[7], broken[20] = 0.0, np.nan
    animate(made, 2, "rotation", times, broken)


def _twice(made, times, turns):
    animate(made, 2, "rotation", times[[0, -1]], turns[[0, 0]])
    animate(made, 2, "rotation", times, turns)


def _from_before_zero(made, times, turns):
    animate(made, 2, "rotation", times - 0.5, turns)


@pytest.mark.parametrize(
    ("breaking", "level", "says"),
    [
        (_shuffled, "warning", "rotation of elbow (its keys were not in the order of time)"),
        (_empty_and_no_numbers, "warning", "2 of its 31 keys hold no value"),
        (_twice, "warning", "two channels move it, with 2 and 31 keys; the second is used"),
        (_from_before_zero, "note", "first key is at -0.500 s"),
    ],
)
def test_keys_that_nobody_can_play_are_mended_told_and_written_mended(breaking, level, says, tmp_path):
    times, turns = _turning(31)
    made = arm()
    del made.json["animations"]
    breaking(made, times, turns)
    document = made.load(tmp_path)
    (told,) = [finding for finding in document.findings if finding.code == "keys-mended"]
    assert told.severity == level
    assert says in told.message
    bone = document.figure.skeleton.names.index(made.json["nodes"][2]["name"])
    fairswap.save(tmp_path / "again.glb", document.figure, document.clips)
    again = fairswap.load(tmp_path / "again.glb")
    for clip in (*document.clips, *again.clips):
        assert (clip.rate, clip.frames) == (30, 31)
        off = angle_between(clip.poses.rotations[:, bone], turns)
        # One key of thirty, between its neighbours at even speed: exact.
        assert off.max() < 1e-5
    assert not [finding for finding in again.findings if finding.code == "keys-mended"]
    (report,) = validated(tmp_path / "again.glb")
    assert report["errors"] == 0, report


def test_a_channel_without_any_value_is_an_error(tmp_path):
    made = arm()
    animate(made, 3, "rotation", [0, 1], np.zeros((2, 4)))
    with pytest.raises(fairswap.InputError, match="none of its keys has a value"):
        made.load(tmp_path)


def test_tracks_on_nodes_that_are_no_bones_make_no_bones(tmp_path):
    made = arm()
    made.json["nodes"].append({"name": "spinning lamp"})
    made.json["scenes"][0]["nodes"].append(5)
    animate(made, 5, "translation", [0, 1], [[0, 0, 0], [0, 0, 9]])
    document = made.load(tmp_path)
    assert len(document.figures) == 1
    assert "spinning lamp" not in document.figure.skeleton.names


def test_two_skins_on_one_tree_are_one_figure_and_on_two_trees_two(tmp_path):
    made = arm()
    made.json["skins"].append({"joints": [2, 3]})
    made.json["nodes"].append({"name": "cuff", "mesh": 0, "skin": 1})
    made.json["scenes"][0]["nodes"].append(5)
    primitive = dict(made.json["meshes"][0]["primitives"][0])
    primitive["attributes"] = {**primitive["attributes"], "JOINTS_0": made.add([[0, 1, 0, 0]] * 8, "u1")}
    made.json["meshes"].append({"primitives": [primitive]})
    made.json["nodes"][5]["mesh"] = 1
    assert [len(f.meshes) for f in made.load(tmp_path).figures] == [2]
    first = len(made.json["nodes"])
    made.json["nodes"] += [
        {"name": "x", "children": [first + 1]},
        {"name": "y", "children": [first + 2]},
        {"name": "z"},
    ]
    made.json["scenes"][0]["nodes"].append(first)
    made.json["skins"][1] = {"joints": [first, first + 1, first + 2]}
    assert sorted(len(f.meshes) for f in made.load(tmp_path).figures) == [1, 1]


def test_a_rigid_mesh_hung_on_a_bone_moves_with_it(tmp_path):
    made = arm()
    del made.json["nodes"][4]["skin"]
    made.json["nodes"][3]["children"] = [4]
    made.json["scenes"][0]["nodes"] = [0]
    made.json["nodes"].append({"name": "other", "mesh": 0, "skin": 0})
    made.json["scenes"][0]["nodes"].append(5)
    document = made.load(tmp_path)
    clip = document.clips[0]
    world = clip.at([1.0]).world()
    rigid = next(mesh for mesh in document.figure.meshes if mesh.name == "sleeve")
    angle = 1.2
    expected = world.positions[0, clip.bone("wrist")] + [
        -0.1 * np.cos(angle) - np.sin(angle),
        -0.1 * np.sin(angle) + np.cos(angle),
        0,
    ]
    assert np.allclose(deformed_vertices(rigid, world, 0)[0], expected, atol=1e-6)


def _data_in(name, space):
    """A troupe figure as a standard file with its turning node, and the same data without that node."""
    fairswap.save("with.glb", replace(figure(name), source=None), space=space)
    container = open_container(Path("with.glb"))
    raw = json.loads(json.dumps(container.raw))
    for key in ("rotation", "scale"):
        raw["nodes"][0].pop(key, None)
    binary = bytes(container.buffers[0])
    raw["buffers"] = [{"byteLength": len(binary), "uri": "data:;base64," + base64.b64encode(binary).decode()}]
    Path("without.gltf").write_text(json.dumps(raw))
    return fairswap.load("with.glb"), fairswap.load("without.gltf")


@pytest.mark.parametrize(
    "space", [fairswap.Space("+Z", "-Y", "cm"), fairswap.Space("+Z", "-Y", "in"), fairswap.Space("+Y", "-Z", "mm")]
)
def test_data_in_another_space_comes_out_upright_and_in_metres_with_and_without_its_node(space):
    original = figure("Osric")
    for document, code in zip(_data_in("Osric", space), ("space-folded", "space-corrected"), strict=True):
        assert document.space == space
        assert code in {finding.code for finding in document.findings}
        assert np.allclose(document.figure.rest_points, original.rest_points, atol=1e-5)
        assert np.allclose(document.figure.skeleton.rest.positions, original.skeleton.rest.positions, atol=1e-6)


def test_quantized_meshes_are_read_as_they_stand():
    """KHR_mesh_quantization: places as normalized shorts below a node that scales them, normals as bytes."""
    packed = arm()
    attributes = packed.json["meshes"][0]["primitives"][0]["attributes"]
    places = np.array([[x, 1 + 0.3 * i, 0.0] for i in range(4) for x in (-0.1, 0.1)])
    attributes["POSITION"] = packed.add(np.round(places / 2 * 32767), "<i2", normalized=True)
    attributes["NORMAL"] = packed.add(np.tile([0, 0, 127], (8, 1)), "i1", normalized=True)
    packed.json["nodes"][4] |= {"scale": [2, 2, 2]}
    packed.json["extensionsUsed"] = packed.json["extensionsRequired"] = ["KHR_mesh_quantization"]
    # The node of a skinned mesh counts for nothing: what it stands for is in the bind matrices.
    binds = np.tile(np.eye(4), (3, 1, 1))
    for row, height in enumerate((1.0, 1.5, 1.9)):
        binds[row, 3, 1] = -height
        binds[row, :3, :3] *= 2
    packed.json["skins"][0]["inverseBindMatrices"] = packed.add(binds.reshape(-1, 16))
    b = fairswap.load(packed.glb(), format=".glb").figure
    assert np.abs(b.rest_vertices[0] - places).max() < 1e-4
    assert b.meshes[0].normals == pytest.approx(np.tile([0, 0, 1.0], (8, 1)))


def test_what_a_pointer_animates_goes_along_with_the_clip():
    made = arm()
    made.json["materials"] = [{"pbrMetallicRoughness": {"baseColorFactor": [1, 0, 0, 1]}}]
    times, colours = [0, 0.5, 1.0], [[1, 0, 0, 1], [0, 1, 0, 1], [0, 0, 1, 1]]
    animate(made, 1, "pointer", times, colours)
    animate(made, 1, "pointer", times, [[0, 1, 0], [0, 1.1, 0], [0, 1.2, 0]])
    pointers = "/materials/0/pbrMetallicRoughness/baseColorFactor", "/nodes/1/translation"
    for row, pointer in zip(made.json["animations"][0]["channels"][1:], pointers, strict=True):
        row["target"] = {"path": "pointer", "extensions": {"KHR_animation_pointer": {"pointer": pointer}}}
    document = fairswap.load(made.glb(), format=".glb")
    clip = document.clips[0]
    # A pointer to a node's own place moves the node.
    assert clip.poses.world().positions[-1, 0] == pytest.approx([0, 1.2, 0])
    slow = fairswap.clips.speed(clip, 0.5)
    fairswap.save("slow.glb", document.figure, [slow])
    raw = fairswap.load("slow.glb").figure.source.container.raw
    (target,) = [row for row in raw["animations"][0]["channels"] if row["target"]["path"] == "pointer"]
    assert target["target"]["extensions"]["KHR_animation_pointer"]["pointer"] == pointers[0]
    (track,) = fairswap.load("slow.glb").clips[0].poses.beside
    assert track.values[:, 0] == pytest.approx(colours[0])
    assert track.values[:, -1] == pytest.approx(colours[-1])
    assert fairswap.load("slow.glb").clips[0].duration_s == pytest.approx(2.0)


def test_meshes_that_the_file_hides_are_left_out_and_told():
    """A wardrobe: what is switched off is not seen, not counted, and stays in the file."""
    scene = Scene((TROUPE / "pip.glb").read_bytes())
    lamp = next(node for node in scene.nodes if "mesh" in node and node["name"] != "Pip body")
    lamp.setdefault("extensions", {})["KHR_node_visibility"] = {"visible": False}
    scene.json["extensionsUsed"] = [*scene.json.get("extensionsUsed", []), "KHR_node_visibility"]
    Path("wardrobe.glb").write_bytes(scene.bytes())
    document = fairswap.load("wardrobe.glb")
    assert [mesh.name for mesh in document.figure.meshes] == ["Pip body"]
    (told,) = [finding for finding in document.findings if finding.code == "hidden-left-out"]
    assert lamp["name"] in told.message
    fairswap.save("again.glb", document.figure)
    again = Scene(Path("again.glb").read_bytes())
    assert [node["name"] for node in again.nodes if "mesh" in node] == [
        node["name"] for node in scene.nodes if "mesh" in node
    ]
    # What hangs on a hidden node is hidden with it.
    number = scene.nodes.index(lamp)
    del lamp["extensions"]
    held = scene.parent_of(number)
    holder = scene.roots() if held is None else scene.nodes[held]["children"]
    holder[holder.index(number)] = len(scene.nodes)
    scene.nodes.append(
        {"name": "wardrobe", "children": [number], "extensions": {"KHR_node_visibility": {"visible": False}}}
    )
    Path("closed.glb").write_bytes(scene.bytes())
    assert [mesh.name for mesh in fairswap.load("closed.glb").figure.meshes] == ["Pip body"]
    # One that hides all it has is read as it is.
    for node in scene.nodes:
        if "mesh" in node:
            node["extensions"] = {"KHR_node_visibility": {"visible": False}}
    Path("dark.glb").write_bytes(scene.bytes())
    assert len(fairswap.load("dark.glb").figure.meshes) == 2
