"""Writing glTF: what was there is kept, what is new is clean, nothing is left behind."""

import json
import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.formats.gltf.opening import open_container
from fairswap.model.mesh import deformed_vertices
from fairswap.model.rotation import angle_between
from making import TROUPE, act, animate, arm, figure


def json_of(path):
    content = Path(path).read_bytes()
    (length,) = struct.unpack_from("<I", content, 12)
    return json.loads(content[20 : 20 + length])


def rich() -> object:
    """A document full of things we do not understand."""
    made = arm()
    image = made.view(b"\x89PNG not really a picture \x00\x01\x02")
    made.json |= {
        "images": [{"bufferView": image, "mimeType": "image/png", "name": "sky"}],
        "textures": [{"source": 0}],
        "materials": [
            {"name": "silk", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}, "extras": {"price": 3}}
        ],
        "cameras": [{"type": "perspective", "perspective": {"yfov": 0.7, "znear": 0.1}}],
        "extensionsUsed": ["TEST_weather"],
        "extensions": {"TEST_weather": {"rain": [0.1, 0.25, 1e-7]}},
        "extras": {"maker": "Lantern Street"},
    }
    made.json["meshes"][0]["primitives"][0]["material"] = 0
    made.json["nodes"].append({"name": "camera", "camera": 0, "translation": [0, 1, 5]})
    made.json["scenes"].append({"name": "backstage", "nodes": [5]})
    animate(made, 5, "translation", [0, 1], [[0, 1, 5], [0, 1, 4]])
    return made


def test_written_again_without_change_everything_is_kept_and_twice_the_same_bytes(tmp_path):
    document = rich().load(tmp_path)
    for name in ("one.glb", "two.glb"):
        fairswap.save(name, document.figure, document.clips)
    assert Path("one.glb").read_bytes() == Path("two.glb").read_bytes()
    before, after = open_container(tmp_path / "made.glb"), open_container(Path("one.glb"))
    for key in (
        "scenes",
        "nodes",
        "materials",
        "textures",
        "cameras",
        "extensions",
        "extensionsUsed",
        "extras",
        "skins",
    ):
        assert after.raw.get(key) == before.raw.get(key), key
    assert [a["channels"] for a in after.raw["animations"]] == [a["channels"] for a in before.raw["animations"]]
    views = [container.document.buffer_views for container in (before, after)]
    data = [
        sorted(bytes(c.buffers[0][v.byte_offset : v.byte_offset + v.byte_length]) for v in view)
        for c, view in zip((before, after), views, strict=True)
    ]
    assert data[0] == data[1]
    again = fairswap.load("one.glb")
    assert np.array_equal(again.clips[0].rotations, document.clips[0].rotations)


def test_clips_that_are_left_out_leave_no_data_behind(tmp_path):
    document = arm().load(tmp_path)
    fairswap.save("bare.glb", document.figure)
    raw = json_of("bare.glb")
    assert "animations" not in raw
    assert len(raw["accessors"]) == 4
    assert raw["buffers"][0]["byteLength"] < len((tmp_path / "made.glb").read_bytes()) - 200


def test_data_of_an_extension_we_do_not_know_is_left_in_place(tmp_path):
    made = arm()
    made.json["extensions"] = {"TEST_cloth": {"bufferView": made.view(b"stiffness")}}
    made.json["extensionsUsed"] = ["TEST_cloth"]
    document = made.load(tmp_path)
    fairswap.save("bare.glb", document.figure)
    container = open_container(Path("bare.glb"))
    view = container.document.buffer_views[container.raw["extensions"]["TEST_cloth"]["bufferView"]]
    assert bytes(container.buffers[0][view.byte_offset :][: view.byte_length]) == b"stiffness"


@pytest.mark.parametrize("suffix", [".glb", ".gltf"])
@pytest.mark.parametrize("performer", ["Juniper", "Osric"])
def test_a_new_clip_comes_back_as_it_was_written(performer, suffix):
    clip = act("turn-and-bow", performer)
    written = fairswap.save(f"out{suffix}", figure(performer), [clip])
    assert [Path(name).exists() for name in written] == [True] * len(written)
    back = fairswap.load(written[0])
    read = back.clips[0]
    assert (read.name, read.rate, read.frames) == (clip.name, clip.rate, clip.frames)
    assert np.degrees(angle_between(read.rotations, clip.rotations)).max() < 1e-3
    assert np.abs(read.world().positions - clip.world().positions).max() < 1e-5


def test_a_node_with_a_matrix_gets_parts_when_it_is_animated(tmp_path):
    made = arm()
    del made.json["animations"]
    made.json["nodes"][2] = {
        "name": "elbow",
        "matrix": [0, 1, 0, 0, -1, 0, 0, 0, 0, 0, 1, 0, 0, 0.5, 0, 1],
        "children": [3],
    }
    document = made.load(tmp_path)
    rest = document.figure.skeleton
    tracks = np.repeat(rest.rest_rotations[:, :, None], 2, axis=2)
    tracks[1, :, 1] = [0, 0, 0, 1]
    clip = fairswap.Clip("straighten", 24, fairswap.model.poses.Poses(rest, tracks))
    fairswap.save("out.glb", document.figure, [clip])
    node = json_of("out.glb")["nodes"][2]
    assert "matrix" not in node
    assert np.allclose(node["rotation"], [0, 0, np.sqrt(0.5), np.sqrt(0.5)])
    assert np.abs(fairswap.load("out.glb").clips[0].world().positions - clip.world().positions).max() < 1e-6


def test_a_clip_in_which_nothing_moves_keeps_its_length():
    skeleton = figure("Osric").skeleton
    tracks = np.repeat(skeleton.rest_rotations[:, :, None], 31, axis=2)
    clip = fairswap.Clip(
        "wait", fairswap.model.rate.rate_from_text("0.0333333"), fairswap.model.poses.Poses(skeleton, tracks)
    )
    fairswap.save("wait.glb", figure("Osric"), [clip])
    read = fairswap.load("wait.glb").clips[0]
    assert read.duration_s == pytest.approx(1.0)
    assert read.still


def test_a_figure_from_nowhere_becomes_a_document_of_its_own():
    made = replace(figure("Juniper"), source=None)
    fairswap.save("new.glb", made, [act("walk", "Juniper")])
    back = fairswap.load("new.glb")
    clip = act("walk", "Juniper")
    worlds = [c.at([1.3]).world() for c in (clip, back.clips[0])]
    a, b = (deformed_vertices(f.meshes[0], w, 0) for f, w in zip((made, back.figure), worlds, strict=True))
    assert np.abs(a - b).max() < 1e-5
    assert len(back.figure.meshes[0].materials[0].texture) > 10_000


def test_an_image_file_beside_the_document_is_taken_into_the_result(tmp_path):
    made = arm()
    (tmp_path / "sky.png").write_bytes(b"\x89PNG blue")
    made.json |= {"images": [{"uri": "sky.png"}], "textures": [{"source": 0}]}
    document = made.load(tmp_path)
    (tmp_path / "else").mkdir()
    fairswap.save(tmp_path / "else" / "out.glb", document.figure)
    container = open_container(tmp_path / "else" / "out.glb")
    image = container.document.images[0]
    view = container.document.buffer_views[image.buffer_view]
    assert bytes(container.buffers[0][view.byte_offset :][: view.byte_length]) == b"\x89PNG blue"


def test_a_figure_that_was_changed_is_written_as_it_is_now_not_as_it_stood():
    juniper = fairswap.load(TROUPE / "juniper.glb").figure
    skeleton = replace(juniper.skeleton, names=tuple(f"x {name}" for name in juniper.skeleton.names))
    fairswap.save("renamed.glb", replace(juniper, skeleton=skeleton))
    assert fairswap.load("renamed.glb").figure.skeleton.names[1] == "x hip_centre"
    fairswap.save("bare.glb", replace(juniper, meshes=()))
    assert "meshes" not in json_of("bare.glb")


def test_a_missing_image_file_is_told_and_does_not_stop_the_figure(tmp_path):
    made = arm()
    made.json |= {"images": [{"uri": "gone.png"}], "textures": [{"source": 0}]}
    made.json["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}]
    made.json["meshes"][0]["primitives"][0]["material"] = 0
    document = made.load(tmp_path)
    assert [finding.code for finding in document.findings] == ["picture-missing"]
    fairswap.save("out.glb", document.figure)
    assert json_of("out.glb")["images"] == [{"uri": "gone.png"}]


def test_a_clip_of_another_skeleton_is_refused():
    with pytest.raises(fairswap.UsageError, match="moves another skeleton"):
        fairswap.save("no.glb", figure("Osric"), [act("walk", "Juniper")])
    assert not Path("no.glb").exists()


def test_the_shipped_figures_are_what_the_readme_says():
    for name in ("juniper", "osric"):
        found = fairswap.load(TROUPE / f"{name}.glb").figure
        edges = np.sort(_welded(found.meshes[0])[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        _, uses = np.unique(edges, axis=0, return_counts=True)
        assert (uses == 2).mean() > 0.999  # closed: each edge between two triangles
        assert found.max_influences <= 4
        assert abs(found.floor_m) < 0.005


def _welded(mesh):
    _, number = np.unique(np.round(mesh.vertices, 6), axis=0, return_inverse=True)
    return number.ravel()[mesh.triangles]


def test_a_figure_built_anew_keeps_what_extensions_say_of_its_materials():
    made = arm()
    toon = {"shadeColorFactor": [0.2, 0.1, 0.1], "shadeMultiplyTexture": {"index": 0}}
    made.json |= {
        "images": [{"bufferView": made.view(b"\x89PNG of a shade"), "mimeType": "image/png"}],
        "textures": [{"source": 0}],
        "materials": [{"extensions": {"KHR_materials_unlit": {}, "TEST_toon": toon}}],
        "extensionsUsed": ["KHR_materials_unlit", "TEST_toon"],
    }
    made.json["meshes"][0]["primitives"][0]["material"] = 0
    figure = fairswap.load(made.glb(), format=".glb").figure
    fairswap.save("anew.glb", replace(figure, source=None))
    raw = json_of("anew.glb")
    assert raw["materials"][0]["extensions"] == {"KHR_materials_unlit": {}, "TEST_toon": toon}
    assert set(raw["extensionsUsed"]) == {"KHR_materials_unlit", "TEST_toon"}
    assert len(raw["images"]) == 1


def test_weights_stand_in_one_set_where_no_vertex_has_more_than_four():
    """Columns of nothing between them: whoever reads the first set alone had another skin."""
    pip = figure("Pip")
    wide = []
    for mesh in pip.meshes:
        apart = np.zeros((len(mesh.vertices), 8))
        holders = np.zeros((len(mesh.vertices), 8), dtype=mesh.joints.dtype)
        columns = [7, 5, 3, 1][: mesh.weights.shape[1]]
        apart[:, columns], holders[:, columns] = mesh.weights, mesh.joints
        wide.append(replace(mesh, weights=apart, joints=holders, origin=None))
    fairswap.save("wide.glb", replace(pip, meshes=tuple(wide), source=None))
    rows = [primitive for mesh in json_of("wide.glb")["meshes"] for primitive in mesh["primitives"]]
    assert all("JOINTS_0" in row["attributes"] and "JOINTS_1" not in row["attributes"] for row in rows)
    read = fairswap.load("wide.glb").figure
    for old, new in zip(pip.meshes, read.meshes, strict=True):
        for bone in range(len(pip.skeleton)):
            held = [np.where(mesh.joints == bone, mesh.weights, 0.0).sum(axis=1) for mesh in (old, new)]
            np.testing.assert_allclose(held[1], held[0], atol=1e-6)
