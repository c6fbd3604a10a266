"""Files made small for the web: geometry packed by Draco, buffers packed by meshopt, pictures as WebP or KTX2.

The judges pack geometry with the encoders of those who defined the formats; nothing of ours takes part in that.
"""

import base64
import io
import json
import re
import struct
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PIL import Image
from scipy.spatial import cKDTree

import fairswap
from conftest import need
from fairswap.figures.painting import with_texture
from fairswap.formats.gltf.materials import coordinates_of
from fairswap.formats.gltf.meshopt import FILTERS, MODES
from fairswap.formats.gltf.schema import TextureInfo
from judging import judge, validated
from making import FREE, TROUPE, act, figure, rig, run
from rewrites import REWRITES, Scene, pictures_of_an_extension
from test_exporters import apart

DRACO, EXT, KHR = "KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_meshopt_compression"
WAYS = {
    "Draco": {"how": "draco"},
    "Draco, vertices in order": {"how": "draco", "sequential": True},
    "meshopt": {"how": "meshopt", "extension": EXT, "fallback": True},
    "meshopt, filtered": {"how": "meshopt", "extension": KHR, "filters": True},
}


def packed(name, way, made=None) -> Path:
    """A figure with a walk (or the file ``made``), packed in one of the ways."""
    if made is None:
        made = Path("whole.glb")
        fairswap.save(made, figure(name), [act("walk", name)], force=True)
    out = Path(f"{made.stem}-packed.glb")
    judge("pack", made, out, WAYS[way])
    assert out.stat().st_size < made.stat().st_size
    return out


def apart_m(document, plain):
    """How far the triangles of a figure's meshes are from those of another's at worst, in whatever order they come."""
    worst = 0.0
    for mesh, first in zip(document.figure.meshes, plain.figure.meshes, strict=True):
        # Draco leaves out triangles without an area.
        assert 0 <= len(first.triangles) - len(mesh.triangles) < 5
        middles = [each.vertices[each.triangles].mean(axis=1) for each in (mesh, first)]
        worst = max(worst, cKDTree(middles[1]).query(middles[0])[0].max())
    return worst


@pytest.mark.parametrize(
    ("name", "way"),
    [*(("Osric", way) for way in WAYS), ("nautical", "meshopt, filtered"), ("Pip", "meshopt"), ("words", "Draco")],
)
@pytest.mark.long(but=1)
def test_a_packed_file_is_the_same_figure_with_the_same_motion(name, way):
    made = None if name in ("Osric", "Pip") else rig(f"{name}.glb")
    out = packed(name, way, made)
    document, plain = fairswap.load(out), fairswap.load(made or "whole.glb")
    assert document.figure.skeleton == plain.figure.skeleton
    assert apart_m(document, plain) < 1e-4
    assert [mesh.morph_names for mesh in document.figure.meshes] == [mesh.morph_names for mesh in plain.figure.meshes]
    for clip, first in zip(document.clips, plain.clips, strict=True):
        assert np.abs(clip.world().positions - first.world().positions).max() < 5e-4
    (told,) = [finding for finding in document.findings if finding.code == "unpacked"]
    assert "compress" in told.message
    # As a target and as a source it does what the plain one does, and what is written is plain and valid.
    walk = fairswap.demo_motion("walk", by="Juniper")
    results = [fairswap.convert(walk, each, motion=FREE) for each in (document, plain)]
    proofs = [result.done[0].comparison for result in results]
    assert proofs[0].limbs_mean_degrees == pytest.approx(proofs[1].limbs_mean_degrees, abs=1e-3)
    onto = [fairswap.convert(each, figure("Pip"), motion=FREE).clips[0] for each in (document, plain)]
    assert max(apart(*onto)) < 1e-4
    written = results[0].save("back.glb")
    (report,) = validated(*written)
    # One of the rigs came with images that are no power of two: the validator says so of both.
    assert (report["errors"], report["warnings"]) == (0, 0)
    raw = Scene(Path("back.glb").read_bytes()).json
    assert not {DRACO, EXT, KHR} & {*raw.get("extensionsUsed", []), *raw.get("extensionsRequired", [])}
    assert "unpacked" not in {finding.code for finding in fairswap.load("back.glb").findings}


@pytest.mark.parametrize("how", ["interleaved vertices", "eight influences", "sparse morphs", "vertices as integers"])
@pytest.mark.parametrize("way", ["Draco", "meshopt"])
@pytest.mark.long(but=2)
def test_what_exporters_do_before_they_pack(how, way):
    fairswap.save("plain.glb", figure("Pip"))
    scene = Scene(Path("plain.glb").read_bytes())
    REWRITES[how](scene)
    scene.interleaved = False  # the packers lay vertices out themselves
    scene.sparse.clear()
    Path("odd.glb").write_bytes(scene.bytes())
    document, plain = fairswap.load(packed("Pip", way, Path("odd.glb"))), fairswap.load("odd.glb")
    assert apart_m(document, plain) < 2e-4
    sums = [
        [mesh.weights.sum() / mesh.weights.any(axis=1).sum() for mesh in each.figure.meshes]
        for each in (document, plain)
    ]
    assert sums[0] == pytest.approx(sums[1], abs=1e-3)


def test_primitives_that_share_their_vertices_share_them_when_unpacked():
    """Juniper's head has eleven materials on one set of vertices."""
    out = packed("Juniper", "Draco, vertices in order", TROUPE / "juniper.glb")
    document, plain = fairswap.load(out), fairswap.load(TROUPE / "juniper.glb")
    assert [len(mesh.vertices) for mesh in document.figure.meshes] == [
        len(mesh.vertices) for mesh in plain.figure.meshes
    ]
    fairswap.save("back.glb", document.figure)
    assert Path("back.glb").stat().st_size < 1.02 * (TROUPE / "juniper.glb").stat().st_size


def test_commands_read_it_and_say_that_it_was_packed():
    out = packed("Osric", "meshopt")
    said = run("inspect", out)
    assert (said.returncode, said.stderr) == (0, "")
    assert f"its data is compressed ({EXT})" in " ".join(said.stdout.split())
    assert run("convert", out, "--onto", out, "-o", "on.glb").returncode == 0
    # The same rules are kept and broken as by the plain file; its size is that of the file as it lies there.
    reports = [run("check", file, "--platform", "saltglass", "--json").report for file in (out, "whole.glb")]
    found, wanted = ({row["rule"]: row for row in report["files"][0]["rules"]} for report in reports)
    assert {name: row["ok"] for name, row in found.items()} == {name: row["ok"] for name, row in wanted.items()}
    assert found["file.max_kib"]["measured"] == f"{out.stat().st_size / 1024:.0f} KiB"


def test_what_fits_but_is_compressed_is_written_plain():
    assert run("fit", TROUPE / "pip.glb", "--platform", "fernway", "-o", "whole.glb").returncode == 0
    out = packed("Pip", "meshopt", Path("whole.glb"))
    done = run("fit", out, "--platform", "fernway", "-o", "plain.glb", "--json").report
    assert (done["fits"], done["copied"]) == (True, False)
    assert EXT not in json.dumps(Scene(Path("plain.glb").read_bytes()).json)
    again = run("fit", "plain.glb", "--platform", "fernway", "-o", "copy.glb", "--json").report
    assert (again["fits"], again["copied"]) == (True, True)


def pixels_of(document):
    """The colour pictures of a figure's materials, as pixels."""
    looks = [look for mesh in document.figure.meshes for look in mesh.materials if look.texture is not None]
    return [np.asarray(Image.open(io.BytesIO(look.texture)).convert("RGB")) for look in looks]


def with_pictures_as(change, *arguments):
    scene = Scene((TROUPE / "pip.glb").read_bytes())
    change(scene, *arguments)
    Path("web.glb").write_bytes(scene.bytes())
    return fairswap.load("web.glb")


@pytest.mark.parametrize("suffix", [".glb", ".gltf", ".dae", ".usdz", ".x3d"])
@pytest.mark.long(but=2)
def test_pictures_as_webp_are_seen_and_go_wherever_the_figure_goes(suffix):
    document = with_pictures_as(REWRITES["pictures as webp"])
    plain = pixels_of(fairswap.load(TROUPE / "pip.glb"))
    assert [(here == there).all() for here, there in zip(pixels_of(document), plain, strict=True)] == [True]
    fairswap.save(f"out{suffix}", document.figure, document.clips)
    again = pixels_of(fairswap.load(f"out{suffix}"))
    assert [(here == there).all() for here, there in zip(again, plain, strict=True)] == [True]
    # Other formats get what all their programs read.
    assert not list(Path().glob("out*.webp"))
    if suffix in (".glb", ".gltf"):
        (report,) = validated(f"out{suffix}")
        assert (report["errors"], report["warnings"]) == (0, 0)


def test_pictures_as_webp_are_made_to_fit_a_stage_and_drawn():
    document = with_pictures_as(REWRITES["pictures as webp"])
    fitted = fairswap.fit(document, "fernway")  # at most 512 pixels, PNG or JPEG
    fitted.save("fit.glb")
    assert [rows.shape for rows in pixels_of(fairswap.load("fit.glb"))] == [(512, 512, 3)]
    (report,) = validated("fit.glb")
    assert (report["errors"], report["warnings"]) == (0, 0)
    assert "EXT_texture_webp" not in json.dumps(Scene(Path("fit.glb").read_bytes()).json)
    files = ("web.glb", TROUPE / "pip.glb")
    for number, file in enumerate(files):
        assert run("draw", file, "-o", f"{number}.png").returncode == 0
    first, second = (np.asarray(Image.open(f"{number}.png").convert("RGB")).astype(int) for number in range(2))
    assert np.abs(first - second)[200:].mean() < 0.5  # below the file's name


def moved_coordinates(scene, offset, rotation, scale, number=0):
    """Texture coordinates that are right only once they are scaled, turned and moved; as set ``number``."""
    cosine, sine = np.cos(rotation), np.sin(rotation)
    matrix = np.array([[cosine, sine], [-sine, cosine]]) @ np.diag(scale)
    for primitive in scene.primitives():
        index = primitive["attributes"].get("TEXCOORD_0")
        if index is None:
            continue
        uvs = (scene.arrays[index].astype(float) - offset) @ np.linalg.inv(matrix).T
        primitive["attributes"][f"TEXCOORD_{number}"] = scene.add(uvs)
        if number:
            primitive["attributes"]["TEXCOORD_0"] = scene.add(np.zeros_like(uvs))
    transform = {"offset": list(offset), "rotation": rotation, "scale": list(scale)}
    for material in scene.json["materials"]:
        use = material.get("pbrMetallicRoughness", {}).get("baseColorTexture")
        if use is not None:
            use["extensions"] = {"KHR_texture_transform": transform | ({"texCoord": number} if number else {})}
    scene.json["extensionsUsed"] = [*scene.json.get("extensionsUsed", []), "KHR_texture_transform"]


@pytest.mark.parametrize(
    ("offset", "rotation", "scale", "number"),
    [((0.25, -0.5), 0.0, (1.0, 1.0), 0), ((0.1, 0.2), 0.7, (2.0, 0.5), 0), ((-0.3, 0.0), -0.4, (0.1, 0.1), 1)],
)
@pytest.mark.long(but=1)
def test_coordinates_that_are_scaled_turned_and_moved_show_what_they_should(offset, rotation, scale, number):
    document = with_pictures_as(moved_coordinates, offset, rotation, scale, number)
    plain = fairswap.load(TROUPE / "pip.glb")
    for mesh, first in zip(document.figure.meshes, plain.figure.meshes, strict=True):
        if any(look.texture is not None for look in mesh.materials):
            assert mesh.shown_uvs == pytest.approx(first.uvs, abs=1e-5)
            assert np.abs(mesh.shown_uvs - mesh.uvs).max() > 0.1
        else:
            assert np.array_equal(mesh.shown_uvs, mesh.uvs)
    for file, name in (("web.glb", "moved.png"), (TROUPE / "pip.glb", "plain.png")):
        assert run("draw", file, "-o", name).returncode == 0
    first, second = (np.asarray(Image.open(name).convert("RGB")).astype(int) for name in ("moved.png", "plain.png"))
    assert np.abs(first - second)[200:].mean() < 0.2
    # Formats that know no such thing get coordinates that need none; glTF keeps it as it was.
    for suffix in (".dae", ".usdz", ".x3d"):
        fairswap.save(f"out{suffix}", document.figure)
        body, wanted = (each.figure.meshes[0] for each in (fairswap.load(f"out{suffix}"), plain))
        near = cKDTree(wanted.vertices[wanted.triangles].mean(axis=1)).query(
            body.vertices[body.triangles].mean(axis=1)
        )[1]
        middles = [each.shown_uvs[each.triangles].mean(axis=1) for each in (body, wanted)]
        assert np.median(np.abs(middles[0] - middles[1][near]).max(axis=1)) < 1e-4
    fairswap.save("again.glb", document.figure)
    again = fairswap.load("again.glb").figure.meshes[0]
    assert again.shown_uvs == pytest.approx(document.figure.meshes[0].shown_uvs, abs=1e-6)


@pytest.mark.parametrize(
    "said", [5, {"rotation": 1e308, "scale": [1e308, 1e308]}, {"offset": ["a", 1]}, {"scale": [2]}]
)
@pytest.mark.parametrize("where", ["KHR_texture_transform", "EXT_texture_webp", "KHR_texture_basisu"])
def test_what_an_extension_of_textures_cannot_mean_counts_as_nothing(where, said):
    def odd(scene):
        (use,) = [row["pbrMetallicRoughness"]["baseColorTexture"] for row in scene.json["materials"]
                  if "baseColorTexture" in row.get("pbrMetallicRoughness", {})]  # fmt: skip
        (use if where == "KHR_texture_transform" else scene.json["textures"][0])["extensions"] = {where: said}
        scene.json["materials"][0]["occlusionTexture"] = {"index": 0, "texCoord": [3]}

    document = with_pictures_as(odd)
    body = document.figure.meshes[0]
    assert np.array_equal(body.shown_uvs, body.uvs)
    fairswap.save("anew.glb", replace(document.figure, source=None))
    assert pixels_of(fairswap.load("anew.glb"))[0].shape == (1024, 1024, 3)


def test_a_picture_given_by_hand_lies_as_the_mesh_has_it():
    """The turn and scale were those of the picture before."""
    document = with_pictures_as(moved_coordinates, (0.1, 0.2), 0.7, (2.0, 0.5))
    Image.new("RGB", (8, 8), "red").save("red.png")
    body = with_texture(document, "*", "red.png").figure.meshes[0]
    assert np.array_equal(body.shown_uvs, body.uvs)


def test_maps_on_a_second_set_of_coordinates_stay_where_a_figure_is_built_anew():
    """Shade that is laid out apart from the colours, as nearly every engine's exporter has it."""

    def shaded(scene):
        (use,) = [row["pbrMetallicRoughness"]["baseColorTexture"] for row in scene.json["materials"]
                  if "baseColorTexture" in row.get("pbrMetallicRoughness", {})]  # fmt: skip
        for material in scene.json["materials"]:
            material["occlusionTexture"] = {"index": use["index"], "texCoord": 1}
        body, *others = scene.primitives()
        body["attributes"]["TEXCOORD_1"] = scene.add(scene.arrays[body["attributes"]["TEXCOORD_0"]] * 0.5)
        assert others

    document = with_pictures_as(shaded)
    fairswap.save("anew.glb", replace(document.figure, source=None))
    scene = Scene(Path("anew.glb").read_bytes())
    for primitive in scene.primitives():
        has = "TEXCOORD_1" in primitive["attributes"]
        assert ("occlusionTexture" in scene.json["materials"][primitive["material"]]) == has
    assert validated("anew.glb")[0]["errors"] == 0


def test_the_sample_of_texture_transforms_shows_its_arrows_where_it_says_that_they_belong():
    """The sample marks where an arrow's tip is if the extension is read rightly, and where if it is not."""
    folder = Path("/usr/share/assimp/models/glTF2/textureTransform")
    need("Debian's assimp-testmodels", folder.exists())
    raw = json.loads((folder / "TextureTransformTest.gltf").read_text())
    place = {node["name"]: np.array(node["translation"][:2]) for node in raw["nodes"] if "name" in node}
    info = {row["name"]: row["pbrMetallicRoughness"]["baseColorTexture"] for row in raw["materials"]}

    def uv(at):
        return np.array([at[0] + 0.5, 0.5 - at[1]])

    tip = uv(place["Rotation - Not Supported"])
    for name, off in (("Rotation", 0.01), ("Scale", 0.06), ("All", 0.06)):
        _, matrix = coordinates_of(msgspec.convert(info[name], TextureInfo))
        shown = matrix @ [*uv(place[f"{name} - Correct"]), 1.0]
        assert np.linalg.norm(shown - tip) < off, name
    _, matrix = coordinates_of(msgspec.convert(info["Rotation"], TextureInfo))
    assert np.linalg.norm(matrix @ [*uv(place["Rotation - Error"]), 1.0] - tip) > 0.5


def test_pictures_as_avif_are_seen_and_go_to_other_formats_as_png():
    def as_avif(data):
        out = io.BytesIO()
        Image.open(io.BytesIO(data)).save(out, "AVIF", quality=100, subsampling="4:4:4", speed=10)
        return out.getvalue()

    document = with_pictures_as(pictures_of_an_extension, "EXT_texture_avif", "image/avif", as_avif)
    assert "picture-not-drawn" not in {finding.code for finding in document.findings}
    (seen,), (plain,) = (pixels_of(one) for one in (document, fairswap.load(TROUPE / "pip.glb")))
    assert np.abs(seen.astype(int) - plain).max() <= 6  # it stores brightness and hue, rounded
    for suffix in (".dae", ".glb"):
        fairswap.save(f"out{suffix}", document.figure)
        assert (pixels_of(fairswap.load(f"out{suffix}"))[0] == seen).all()
    assert len(list(Path().rglob("*.png"))) == 1
    assert "EXT_texture_avif" in Scene(Path("out.glb").read_bytes()).json["extensionsRequired"]
    # A platform that wants PNG or JPEG gets that.
    fitted = fairswap.fit("web.glb", "fernway")
    fairswap.save("fitted.glb", fitted.figure)
    assert {row["mimeType"] for row in Scene(Path("fitted.glb").read_bytes()).json["images"]} == {"image/png"}


def test_pictures_beside_a_file_come_along_whatever_they_are():
    with_pictures_as(REWRITES["pictures as webp"])
    scene = Scene(Path("web.glb").read_bytes())
    Path("there").mkdir()
    (view,) = scene.images
    Path("there/look.webp").write_bytes(scene.images[view])
    fairswap.save("there/web.gltf", fairswap.load("web.glb").figure)
    raw = json.loads(Path("there/web.gltf").read_text())
    raw["images"] = [{"uri": "look.webp"}]
    Path("there/web.gltf").write_text(json.dumps(raw))
    fairswap.save("here.glb", fairswap.load("there/web.gltf").figure)
    assert [rows.shape for rows in pixels_of(fairswap.load("here.glb"))] == [(1024, 1024, 3)]


def test_pictures_for_graphics_cards_are_kept_and_it_is_told_that_they_are_not_drawn():
    cards = b"\xabKTX 20\xbb\r\n\x1a\n" + struct.pack("<4I", 0, 1, 4096, 256) + bytes(80)
    document = with_pictures_as(pictures_of_an_extension, "KHR_texture_basisu", "image/ktx2", lambda data: cards)
    (told,) = [finding for finding in document.findings if finding.code == "picture-not-drawn"]
    assert (told.severity, told.place) == ("warning", "textures[0]")
    assert "KTX2" in told.message
    fairswap.save("out.glb", document.figure)
    assert cards in Path("out.glb").read_bytes()
    assert "KHR_texture_basisu" in Scene(Path("out.glb").read_bytes()).json["extensionsRequired"]
    # No platform here takes it, and it is larger than this one allows.
    broken = {row.rule: row.measured for row in fairswap.check("web.glb", "fernway").broken}
    assert broken.items() >= {"figure.texture_formats": "ktx2", "figure.max_texture_px": "4096 px"}.items()
    # A texture that has a picture of its own as well shows that.
    scene = Scene((TROUPE / "pip.glb").read_bytes())
    scene.json["images"].append(dict(scene.json["images"][0]))
    scene.json["textures"][0]["extensions"] = {"KHR_texture_basisu": {"source": 1}}
    Path("both.glb").write_bytes(scene.bytes())
    assert "picture-not-drawn" not in {finding.code for finding in fairswap.load("both.glb").findings}


def changed(out, change):
    """A packed file with its JSON or its bytes changed: what is said of it."""
    data = bytearray(out.read_bytes())
    size = struct.unpack_from("<I", data, 12)[0]
    raw, binary = json.loads(data[20 : 20 + size]), data[28 + size :]
    change(raw, binary)
    text = json.dumps(raw).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sIIII", b"glTF", 2, 28 + len(text) + len(binary), len(text), 0x4E4F534A)
    bad = Path("bad.glb")
    bad.write_bytes(head + text + struct.pack("<II", len(binary), 0x004E4942) + binary)
    with pytest.raises(fairswap.InputError) as caught:
        fairswap.load(bad)
    return str(caught.value)


def _view(raw):
    return next(row["extensions"][EXT] for row in raw["bufferViews"] if EXT in row.get("extensions", {}))


def _triangles(raw):
    rows = [row["extensions"][EXT] for row in raw["bufferViews"] if EXT in row.get("extensions", {})]
    return next(row for row in rows if row["mode"] == "TRIANGLES")


def _primitive(raw):
    return raw["meshes"][0]["primitives"][0]["extensions"][DRACO]


def _damage(part):
    """Fill the end of a stretch of the data with other bytes, and cut it a little."""

    def change(raw, binary):
        row = part(raw)
        row["byteLength"] -= 9

    return change


def _set(part, **values):
    return lambda raw, binary: part(raw).update(values)


BAD = {
    "cut": ("meshopt", _damage(_view), r"bufferViews\[\d+\]\.extensions.*compressed data is damaged"),
    "cut triangles": ("meshopt", _damage(_triangles), "compressed data is damaged"),
    "other header": ("meshopt", lambda raw, binary: binary.__setitem__(_view(raw)["byteOffset"], 7), "no header"),
    "more than there is": ("meshopt", _set(_view, byteLength=10**9), "past the end of its buffer"),
    "a count of many": ("meshopt", _set(_view, count=10**12), "more than 2 GiB"),
    "another count": ("meshopt", _set(_view, count=3), "left over|past the end of its buffer view"),
    "an odd stride": ("meshopt", _set(_view, byteStride=7), "times 7 bytes cannot be ATTRIBUTES"),
    "no such mode": ("meshopt", _set(_view, mode="SOME"), "extensions"),
    "no such filter": ("meshopt", _set(_view, filter="SOFT"), "filter 'SOFT' does not fit"),
    "no such buffer": ("meshopt", _set(_view, buffer=9), "buffer 9, but there are 2"),
    "a text for a number": ("meshopt", _set(_view, count="many"), r"count.*not a whole number"),
    "corners that are no triangles": ("meshopt", _set(_triangles, count=4), "cannot be TRIANGLES"),
    "no such attribute": ("Draco", _set(_primitive, attributes={"POSITION": 77}), "no attribute 77"),
    "not among its own": ("Draco", _set(_primitive, attributes={"TANGENT": 0}), "TANGENT.*no attribute"),
    "no such view": ("Draco", _set(_primitive, bufferView=999), "buffer view 999"),
    "another view": ("Draco", _set(_primitive, bufferView=0), "geometry is damaged"),
    "of another width": (
        "Draco",
        lambda raw, binary: raw["accessors"][raw["meshes"][0]["primitives"][0]["attributes"]["POSITION"]].update(
            type="VEC2"
        ),
        "3 numbers where VEC2",
    ),
    "no triangles": ("Draco", lambda raw, binary: raw["meshes"][0]["primitives"][0].update(mode=1), "no triangles"),
}


@pytest.mark.parametrize("case", BAD)
def test_damage_is_told_with_its_place_and_what_to_do(case):
    way, change, words = BAD[case]
    said = changed(packed("", way, TROUPE / "osric-boots.glb"), change)
    assert re.search(words, said), said
    assert "bad.glb" in said
    assert re.search(r"Export the file again|Leave out", said)


@pytest.mark.parametrize("version", [0, 1])
@pytest.mark.parametrize("stride", [4, 12, 16, 52, 256])
def test_attributes_are_unpacked_as_their_own_decoder_does(version, stride):
    dice = np.random.default_rng(stride)
    for count in (1, 16, 17, 255, 257, 1500):
        walks = np.cumsum(dice.integers(-3, 4, (count, stride)), axis=0)
        kinds = (
            dice.integers(0, 256, (count, stride)),  # noise, nothing to be saved
            walks,  # small steps
            walks * (dice.random((1, stride)) > 0.6),  # some bytes never change
            np.cumsum(dice.normal(size=(count, stride // 4)), axis=0).astype("<f4").view(np.uint8),
            np.cumsum(dice.integers(-99, 99, (count, stride // 2)), axis=0).astype("<i2").view(np.uint8),
        )
        for values in kinds:
            data = np.ascontiguousarray(values.astype(np.uint8))
            ours, theirs, _ = both(data, count, stride, "ATTRIBUTES", version)
            assert (theirs == data).all()
            assert (ours == data).all()


@pytest.mark.parametrize("stride", [2, 4])
def test_indices_are_unpacked_as_their_own_decoder_does(stride):
    dice = np.random.default_rng(8)
    grid = [(a, a + 1, a + 40, a + 40, a + 1, a + 41) for a in range(1500) if a % 40 < 39]
    loose = dice.integers(0, 60_000, (700, 3))
    fan = [(0, a, a + 1) for a in range(1, 400)]
    cases = {"grid": grid, "loose": loose, "fan": fan, "all": [*np.reshape(grid, (-1, 3)), *loose, *fan, *loose // 9]}
    for corners in cases.values():
        data = np.reshape(corners, (-1, 1)).astype(f"<u{stride}")
        for mode in ("TRIANGLES", "INDICES"):
            ours, theirs, _ = both(data, len(data), stride, mode, 1)
            assert (ours == theirs).all()
            found, wanted = (np.sort(rows.reshape(-1, 3), axis=1) for rows in (ours.view(data.dtype), data))
            assert (found == wanted).all()


@pytest.mark.parametrize(
    ("name", "stride", "bits"),
    [("OCTAHEDRAL", 4, 8), ("OCTAHEDRAL", 8, 16), ("OCTAHEDRAL", 8, 10), ("QUATERNION", 8, 16), ("QUATERNION", 8, 9),
     ("EXPONENTIAL", 12, 20), ("EXPONENTIAL", 4, 8), ("COLOR", 4, 8), ("COLOR", 4, 5), ("COLOR", 8, 12)],
)  # fmt: skip
def test_filters_are_undone_as_their_own_decoder_does(name, stride, bits):
    dice = np.random.default_rng(bits)
    values = dice.normal(size=(900, stride // 4 if name == "EXPONENTIAL" else 4))
    if name == "OCTAHEDRAL":
        values /= np.linalg.norm(values[:, :3], axis=1, keepdims=True)
        values[:, 3] = dice.integers(-1, 2, 900)
        values[:6, :3] = np.vstack([np.eye(3), -np.eye(3)])
    elif name == "QUATERNION":
        values /= np.linalg.norm(values, axis=1, keepdims=True)
        values[:4] = np.eye(4)
    elif name == "COLOR":
        values = dice.random((900, 4))
        values[:3] = [[0] * 4, [1] * 4, [0, 0, 0, 1]]
    ours, theirs, _ = both(values.astype("<f4"), 900, stride, "ATTRIBUTES", 1, name, bits)
    kind = {"OCTAHEDRAL": f"<i{stride // 4}", "QUATERNION": "<i2", "EXPONENTIAL": "<f4", "COLOR": f"<u{stride // 4}"}
    ours, theirs = (rows.view(kind[name]).astype(float) for rows in (ours, theirs))
    # Halves are rounded to the one or the other side.
    assert np.abs(ours - theirs).max() <= (0 if name == "EXPONENTIAL" else 1)
    assert (ours != theirs).mean() < 0.005


def both(values, count, stride, mode, version, name=None, bits=8):
    """Rows packed by the judge and unpacked by us and by it, as bytes; and what was packed."""
    given = base64.b64encode(values.tobytes()).decode()
    data, theirs = map(base64.b64decode, judge("meshopt", given, count, stride, mode, version, name or "NONE", bits))
    ours = MODES[mode](data, count, stride)
    return FILTERS[name][0](ours) if name else ours, np.frombuffer(theirs, np.uint8).reshape(count, stride), data
