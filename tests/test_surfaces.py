"""What a file says of its surfaces besides (colours, further coordinates, tangents, morphed normals) stays."""

from pathlib import Path

import numpy as np
import pytest

import fairswap
from judging import validated
from making import TROUPE, act, figure, run
from rewrites import Scene


def rich(name="rich.glb"):
    """Juniper with all that a surface may have."""
    fairswap.save(name, figure("Juniper"), [act("walk", "Juniper")], force=True)
    scene = Scene(Path(name).read_bytes())
    dice, done = np.random.default_rng(5), {}
    for primitive in scene.primitives():
        attributes = primitive["attributes"]
        key = attributes["POSITION"]
        if key not in done:
            count = len(scene.arrays[key])
            normals = scene.arrays[attributes["NORMAL"]].astype(float)
            across = np.cross(normals, [0.3, 0.5, 0.8])
            across /= np.linalg.norm(across, axis=1, keepdims=True)
            done[key] = {
                "COLOR_0": scene.add(dice.random((count, 4))),
                "TEXCOORD_1": scene.add(dice.random((count, 2))),
                "TANGENT": scene.add(np.column_stack([across, np.ones(count)])),
                "_WEAR": scene.add(dice.random((count, 1))),
            }
        attributes |= done[key]
        for number, target in enumerate(primitive.get("targets", [])):
            if (key, number) not in done:
                done[key, number] = scene.add(0.01 * dice.standard_normal((len(scene.arrays[key]), 3)))
            target["NORMAL"] = done[key, number]
    Path(name).write_bytes(scene.bytes())
    return name


def surfaces(path):
    """The attributes of each mesh's first primitive, by name of the mesh; and the shifts of its normals."""
    scene, found = Scene(Path(path).read_bytes()), {}
    for mesh in scene.json["meshes"]:
        primitive = mesh["primitives"][0]
        rows = {name: scene.arrays[number].astype(float) for name, number in primitive["attributes"].items()}
        found[mesh["name"]] = (
            rows,
            [scene.arrays[target["NORMAL"]] for target in primitive.get("targets", []) if "NORMAL" in target],
        )
    return found


def test_a_figure_that_is_built_anew_keeps_its_surface():
    before = surfaces(rich())
    document = fairswap.load("rich.glb")
    fairswap.save("new.glb", fairswap.Figure("new", document.figure.skeleton, document.figure.meshes), document.clips)
    after = surfaces("new.glb")
    for name, (rows, shifts) in before.items():
        new, moved = after[name]
        for key in ("COLOR_0", "TEXCOORD_0", "TEXCOORD_1", "_WEAR", "TANGENT"):
            assert key not in rows or new[key] == pytest.approx(rows[key], abs=1e-6), (name, key)
        assert len(moved) == len(shifts)
        assert all(np.abs(a - b).max() < 1e-6 for a, b in zip(moved, shifts, strict=True))
    for report in validated("new.glb"):
        assert report["errors"] == 0, report


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass"])
@pytest.mark.long(but=1)
def test_fitting_to_a_stage_keeps_colours_and_coordinates(stage):
    done = run("fit", rich(), "--platform", stage, "-o", "fitted")
    assert done.returncode == 0, done.stderr
    path = next(path for path in Path("fitted").glob("*.glb") if "rich" in path.name or "uniper" in path.name)
    before, after = surfaces("rich.glb"), surfaces(path)
    body = next(name for name in before if "body" in name)
    assert body in after
    for key in ("COLOR_0", "TEXCOORD_1", "_WEAR"):
        assert after[body][0][key] == pytest.approx(before[body][0][key], abs=1e-6)
    tangents = after[body][0]["TANGENT"]
    assert np.abs(np.linalg.norm(tangents[:, :3], axis=1) - 1).max() < 1e-4
    for report in validated(path):
        assert report["errors"] == 0, report


def test_parts_that_say_different_things_of_their_vertices_are_joined():
    """One part has colours without opacity, one with, one none: white where nothing is said."""
    scene = Scene(Path(rich()).read_bytes())
    mesh = scene.json["meshes"][0]
    first = mesh["primitives"][0]
    count = len(scene.arrays[first["attributes"]["POSITION"]])
    for number, colors in ((1, np.full((count, 3), 0.5)), (2, None)):
        attributes = dict(first["attributes"])
        for key in ("POSITION", "NORMAL"):
            attributes[key] = scene.add(scene.arrays[attributes[key]])
        attributes.pop("COLOR_0")
        if colors is not None:
            attributes["COLOR_0"] = scene.add(colors)
        mesh["primitives"].append({**first, "attributes": attributes, "extras": {"part": number}})
    Path("parts.glb").write_bytes(scene.bytes())
    made = fairswap.load("parts.glb").figure.meshes[0].more["COLOR_0"]
    assert made.shape[1] == 4
    assert (made[-count:] == 1.0).all()
    assert made[-2 * count : -count] == pytest.approx(np.tile([0.5, 0.5, 0.5, 1.0], (count, 1)))


def test_a_body_that_is_blended_all_over_is_noticed():
    scene = Scene((TROUPE / "pip.glb").read_bytes())
    assert not told("plain.glb", scene)
    for material in scene.json["materials"]:
        material["alphaMode"] = "BLEND"
    assert told("blended.glb", scene)
    # Glass is meant to be blended.
    scene.json["materials"][0].setdefault("pbrMetallicRoughness", {})["baseColorFactor"] = [1, 1, 1, 0.4]
    assert not told("glass.glb", scene)


def told(name, scene):
    Path(name).write_bytes(scene.bytes())
    return [row.code for row in fairswap.inspect(name).findings].count("all-blended") == 1
