"""Materials in one atlas: the same colour at every place, nothing bleeds, what cannot be merged stays and is named."""

import json
import struct
from dataclasses import replace
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import fairswap
from fairswap.cli.main import command
from fairswap.figures.atlas import atlased, number_of_materials
from fairswap.figures.shelves import laid_out
from fairswap.formats.gltf.materials import maps_of
from fairswap.model.mesh import Material


def png(pixels):
    out = BytesIO()
    Image.fromarray(np.asarray(pixels, dtype=np.uint8)).save(out, "PNG")
    return out.getvalue()


def seen(mesh, rows, shares):
    """The colour (0..255) that a client shows at places of triangles: bilinear, repeating, times the linear factor."""
    out = np.zeros((len(rows), 3))
    for material in mesh.materials:
        own = (rows >= material.triangles.start) & (rows < material.triangles.stop)
        factor = np.asarray(material.color)
        if material.texture is None:
            colour = np.ones((int(own.sum()), 3))
        else:
            pixels = np.asarray(Image.open(BytesIO(material.texture)).convert("RGB"), dtype=float)
            high, wide = pixels.shape[:2]
            uv = np.einsum("nk,nki->ni", shares[own], mesh.uvs[mesh.triangles[rows[own]]])
            x, y = uv[:, 0] * wide - 0.5, uv[:, 1] * high - 0.5
            x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
            fx, fy = (x - x0)[:, None], (y - y0)[:, None]
            a, b, c, d = (pixels[(y0 + j) % high, (x0 + i) % wide] for j, i in ((0, 0), (0, 1), (1, 0), (1, 1)))
            colour = ((a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy) / 255.0
        linear = np.where(colour <= 0.04045, colour / 12.92, ((colour + 0.055) / 1.055) ** 2.4) * factor
        out[own] = 255 * np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
    return out


def same_places(old, new, count, seed):
    """Random places on the old triangles, and the same on the new ones, which are in another order."""
    rng = np.random.default_rng(seed)
    at = {np.sort(old.vertices[t], axis=0).tobytes(): i for i, t in enumerate(old.triangles)}
    rows = rng.integers(0, len(new.triangles), count)
    match = np.array([at[np.sort(new.vertices[new.triangles[r]], axis=0).tobytes()] for r in rows])
    shares = rng.dirichlet([1, 1, 1], count)
    order = np.array([
        [int(np.argmin(np.abs(old.vertices[old.triangles[m]] - new.vertices[v]).sum(axis=1))) for v in new.triangles[r]]
        for m, r in zip(match, rows, strict=True)
    ])  # fmt: skip
    turned = np.zeros_like(shares)
    np.put_along_axis(turned, order, shares, axis=1)
    return match, turned, rows, shares


@pytest.mark.parametrize("name", ["juniper", "osric", "pip"])
@pytest.mark.long(but=1)
def test_a_thousand_places_look_the_same(name):
    figure = fairswap.load(fairswap.demo_file(f"{name}.glb")).figure
    made = atlased(figure)
    assert made.after < made.before
    assert made.scale == 1.0
    for number, (old, new) in enumerate(zip(figure.meshes, made.figure.meshes, strict=True)):
        first, shares, second, turned = same_places(old, new, 500, number)
        off = np.abs(seen(old, first, shares) - seen(new, second, turned))
        assert off.max() <= 1.5


def _cards(*looks, wrap=1.0):
    """A card for each look, side by side on one bone, each showing its picture ``wrap`` times over."""
    base = fairswap.load(fairswap.demo_file("pip.glb")).figure
    corners = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], dtype=float)
    vertices = np.concatenate([corners + [2.0 * i, 0, 0] for i in range(len(looks))])
    triangles = np.concatenate([np.array([[0, 1, 2], [0, 2, 3]]) + 4 * i for i in range(len(looks))])
    uvs = np.tile(corners[:, :2] * wrap, (len(looks), 1))
    mesh = replace(
        base.meshes[0], vertices=vertices, normals=np.tile([0.0, 0, 1], (len(vertices), 1)), triangles=triangles,
        joints=np.zeros((len(vertices), 1), dtype=int), weights=np.ones((len(vertices), 1)), uvs=uvs, tangents=None,
        morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None, more={}, origin=None,
        materials=tuple(replace(look, triangles=slice(2 * i, 2 * i + 2)) for i, look in enumerate(looks)),
    )  # fmt: skip
    return replace(base, meshes=(mesh,), source=None)


def test_nothing_bleeds_over_a_border_and_tiles_are_unrolled():
    rng = np.random.default_rng(2)
    red = png(np.dstack([rng.integers(200, 255, (16, 16)), *[rng.integers(0, 20, (16, 16))] * 2]))
    blue = png(np.dstack([*[rng.integers(0, 20, (24, 8))] * 2, rng.integers(200, 255, (24, 8))]))
    looks = [Material(slice(0, 0), np.ones(3), picture) for picture in (red, blue)]
    figure = _cards(*looks, Material(slice(0, 0), np.array([0.2, 0.9, 0.1])), wrap=2.0)
    made = atlased(figure)
    assert (made.before, made.after) == (3, 1)
    assert all(side & (side - 1) == 0 for side in made.size_px)
    first, shares, second, turned = same_places(figure.meshes[0], made.figure.meshes[0], 1000, 0)
    off = np.abs(seen(figure.meshes[0], first, shares) - seen(made.figure.meshes[0], second, turned))
    assert off.max() <= 1.5


def test_what_cannot_be_merged_stays_by_itself_and_is_told():
    noise = np.random.default_rng(0).integers(0, 255, (8, 8, 3))
    glass = Material(slice(0, 0), np.ones(3), png(noise), blending="blend", alpha=0.5)
    looks = [Material(slice(0, 0), np.ones(3), png(noise)), Material(slice(0, 0), np.array([1.0, 0, 0]))]
    made = atlased(_cards(*looks, glass))
    assert made.after == 2  # what is seen through stays glass
    tiled = atlased(_cards(*looks, wrap=40.0))
    assert tiled.after == 2
    assert any("repeats too often" in finding.message for finding in tiled.findings)


def test_pictures_shrink_to_an_atlas_that_is_allowed():
    noise = np.random.default_rng(0).integers(0, 255, (64, 64, 3))
    looks = [Material(slice(0, 0), np.ones(3), png(noise)) for _ in range(4)]
    made = atlased(_cards(*looks), most_px=64)
    assert max(made.size_px) <= 64
    assert made.scale < 1.0
    assert made.after == 1


def test_all_maps_lie_where_the_colour_does(tmp_path):
    """Normals, roughness and glow of two materials, written and read again: each at its own place."""
    figure = _with_maps()
    made = atlased(figure)
    fairswap.save(tmp_path / "atlas.glb", made.figure)
    again = fairswap.load(tmp_path / "atlas.glb").figure
    assert number_of_materials(again) == 1
    raw = again.meshes[0].materials[0].origin.container.raw
    row = raw["materials"][0]
    assert {"normalTexture", "emissiveTexture"} <= set(row)
    assert "metallicRoughnessTexture" in row["pbrMetallicRoughness"]
    maps = maps_of(again.meshes[0].materials[0])
    mesh = again.meshes[0]
    for name, values in {"normal": ((200, 90, 230), (60, 128, 240)), "glow": ((10, 200, 30), (0, 0, 0))}.items():
        picture = np.asarray(Image.open(BytesIO(maps.pictures[name])).convert("RGB"))
        for card, value in enumerate(values):
            uv = mesh.uvs[np.abs(mesh.vertices[:, 0] - 2 * card) < 1.01].mean(axis=0)
            pixel = picture[int(uv[1] * picture.shape[0]), int(uv[0] * picture.shape[1])]
            assert np.abs(pixel.astype(int) - value).max() <= 1, (name, card)


def _with_maps():
    looks = [((220, 40, 40), (200, 90, 230), (10, 200, 30)), ((40, 40, 220), (60, 128, 240), (0, 0, 0))]
    pictures = [png(np.broadcast_to(value, (8, 8, 3))) for look in looks for value in look]
    fairswap.save(
        "cards.glb", _cards(*(Material(slice(0, 0), np.ones(3), png(np.full((8, 8, 3), 9 * i))) for i in (1, 2)))
    )
    data = Path("cards.glb").read_bytes()
    length = struct.unpack_from("<I", data, 12)[0]
    raw, binary = json.loads(data[20 : 20 + length]), data[28 + length :]
    for picture in pictures:
        binary += b"\0" * (-len(binary) % 4)
        raw["bufferViews"].append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(picture)})
        raw["images"].append({"bufferView": len(raw["bufferViews"]) - 1, "mimeType": "image/png"})
        raw["textures"].append({"source": len(raw["images"]) - 1})
        binary += picture
    raw["buffers"][0]["byteLength"] = len(binary)
    for index, material in enumerate(raw["materials"]):
        first = len(raw["textures"]) - 6 + 3 * index
        material["pbrMetallicRoughness"] |= {"baseColorTexture": {"index": first}, "roughnessFactor": 0.2 + 0.5 * index}
        material["normalTexture"] = {"index": first + 1}
        if index == 0:
            material["emissiveTexture"], material["emissiveFactor"] = {"index": first + 2}, [1, 1, 1]
    text = json.dumps(raw).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    whole = head + struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(binary), b"BIN\0") + binary
    Path("maps.glb").write_bytes(whole)
    return fairswap.load("maps.glb").figure


def test_fit_merges_materials_and_takes_a_picture_by_hand(tmp_path):
    (tmp_path / "few.toml").write_text(
        'fairswap = "platform/1"\nname = "few"\nbones = "fernway"\n[figure]\nmax_materials = 2\n'
    )
    pip = str(fairswap.demo_file("pip.glb"))
    run = CliRunner().invoke(command, ["fit", pip, "--platform", "few.toml", "-o", "few.glb"])
    assert run.exit_code == 0, run.output
    assert "materials to" in run.output
    assert number_of_materials(fairswap.load("few.glb").figure) <= 2
    (tmp_path / "green.png").write_bytes(png(np.broadcast_to((10, 200, 10), (4, 4, 3))))
    hand = ["fit", pip, "--platform", "fernway", "-o", "green.glb", "--texture", "Pip body:0=green.png"]
    run = CliRunner().invoke(command, hand)
    assert run.exit_code == 0, run.output
    texture = fairswap.load("green.glb").figure.meshes[0].materials[0].texture
    assert np.abs(np.asarray(Image.open(BytesIO(texture)).convert("RGB")).astype(int) - (10, 200, 10)).max() <= 3
    run = CliRunner().invoke(command, [*hand[:-1], "nobody=green.png", "--force"])
    assert isinstance(run.exception, fairswap.UsageError)
    assert "no material is called 'nobody'" in str(run.exception)


@given(st.lists(st.tuples(st.integers(1, 60), st.integers(1, 60)), min_size=1, max_size=25))
def test_rectangles_lie_apart_in_a_room_that_is_no_larger_than_it_must(sizes):
    found = laid_out(sizes, 1024)
    assert found is not None
    (wide, high), places = found
    taken = np.zeros((high, wide), dtype=int)
    for (x, y), (w, h) in zip(places, sizes, strict=True):
        assert 0 <= x <= x + w <= wide
        assert 0 <= y <= y + h <= high
        taken[y : y + h, x : x + w] += 1
    assert taken.max() == 1
    assert taken.sum() == sum(w * h for w, h in sizes)
    # Powers of two, and nothing smaller would do.
    assert wide & (wide - 1) == high & (high - 1) == 0
    assert wide in (high, 2 * high)
    assert laid_out(sizes, max(wide, high) - 1) is None
