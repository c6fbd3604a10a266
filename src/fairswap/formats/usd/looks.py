"""Preview materials: colour, picture, opacity and glow of a UsdPreviewSurface, read and written."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from fairswap.formats.gltf.materials import Maps, maps_of
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import Look, SceneBuilder
from fairswap.formats.usd.values import value_of
from fairswap.model.mesh import Blending, Material


class Looks:
    """The materials of a stage, each made once."""

    def __init__(self, builder: SceneBuilder, pictures: Pictures) -> None:
        self.builder, self.pictures = builder, pictures
        self._made: dict[tuple[str, bool], int] = {}

    def number(self, prim: Any, two_sided: bool) -> int | None:
        """The number in the scene of the material that is bound to a prim; None for none."""
        from pxr import UsdShade

        material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        if not material:
            return None
        key = str(material.GetPath()), two_sided
        if key not in self._made:
            self._made[key] = self.builder.look(self._look(material, two_sided))
        return self._made[key]

    def _look(self, material: Any, two_sided: bool) -> Look:
        name = material.GetPrim().GetDisplayName() or material.GetPrim().GetName()
        shader, *_ = material.ComputeSurfaceSource()
        if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
            return Look(name, two_sided=two_sided)
        color = self._numbers(shader, "diffuseColor", (0.18, 0.18, 0.18))
        picture = self._picture(shader, "diffuseColor")
        opacity = self._numbers(shader, "opacity", (1.0,))[0]
        cutoff = self._numbers(shader, "opacityThreshold", (0.0,))[0]
        masked = self._picture(shader, "opacity") is not None
        blending: Blending = "mask" if cutoff > 0.0 else "blend" if masked or opacity < 0.999 else "opaque"
        glow = self._numbers(shader, "emissiveColor", (0.0, 0.0, 0.0))
        glow = self._scale(shader, "emissiveColor", glow)
        # Roughness and metal are one picture in glTF; of two different ones, none.
        surface, metal = self._picture(shader, "roughness"), self._picture(shader, "metallic")
        others = {"glow": self._picture(shader, "emissiveColor"), "occlusion": self._picture(shader, "occlusion"),
                  "surface": surface if surface == metal else None}  # fmt: skip
        return Look(
            name, (1.0, 1.0, 1.0) if picture is not None else (color[0], color[1], color[2]), opacity, picture,
            blending, cutoff or 0.5, two_sided, (glow[0], glow[1], glow[2]), self._picture(shader, "normal"),
            self._numbers(shader, "roughness", (0.5,))[0], self._numbers(shader, "metallic", (0.0,))[0],
            {name: picture for name, picture in others.items() if picture is not None},
        )  # fmt: skip

    def _numbers(self, shader: Any, name: str, otherwise: tuple[float, ...]) -> tuple[float, ...]:
        entry = shader.GetInput(name)
        value = value_of(entry) if entry else None
        if value is None:
            return otherwise
        values = np.ravel(np.array(value, dtype=np.float64))
        if len(values) != len(otherwise) or not np.isfinite(values).all():
            return otherwise
        return tuple(np.clip(values, 0.0, 1.0).tolist())

    def _scale(self, shader: Any, name: str, otherwise: tuple[float, ...]) -> tuple[float, ...]:
        """What an input's picture is multiplied by; as it is without a picture."""
        source = _source(shader, name)
        scale = source.GetAttribute("inputs:scale") if source is not None else None
        if source is None:
            return otherwise
        value = value_of(scale) if scale else None
        return tuple(min(max(float(part), 0.0), 1.0) for part in value)[:3] if value is not None else (1.0, 1.0, 1.0)

    def _picture(self, shader: Any, name: str) -> bytes | None:
        """The picture that an input takes its values from."""
        source = _source(shader, name)
        if source is None:
            return None
        file = source.GetAttribute("inputs:file")
        asset = value_of(file) if file else None
        return self.pictures.found([getattr(asset, "path", "") or ""])


def _source(shader: Any, name: str) -> Any:
    """The prim that an input takes its values from; None if it has a value of its own."""
    entry = shader.GetInput(name)
    return entry.GetConnectedSources()[0][0].source.GetPrim() if entry and entry.HasConnectedSource() else None


def write_look(stage: Any, path: str, look: Material, title: str, names: Mapping[bytes, str]) -> Any:
    """A preview material at ``path``; ``names`` are the file names of all pictures."""
    from pxr import Sdf, UsdShade

    types = Sdf.ValueTypeNames
    maps = maps_of(look) or Maps({}, 0.9, 0.0)
    material = UsdShade.Material.Define(stage, path)
    material.GetPrim().SetDisplayName(title)
    shader = UsdShade.Shader.Define(stage, f"{path}/Shader")
    shader.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    seen_through = look.blending != "opaque"
    shader.CreateInput("diffuseColor", types.Color3f).Set(tuple(map(float, look.color)))
    shader.CreateInput("opacity", types.Float).Set(float(look.alpha) if seen_through else 1.0)
    shader.CreateInput("roughness", types.Float).Set(maps.roughness)
    shader.CreateInput("metallic", types.Float).Set(maps.metallic)
    shader.CreateInput("emissiveColor", types.Color3f).Set(maps.glow)
    if look.blending == "mask":
        shader.CreateInput("opacityThreshold", types.Float).Set(float(look.cutoff))
    factors = {"Glow": (*maps.glow, 1.0), "Surface": (1.0, maps.roughness, maps.metallic, 1.0)}
    reader = None
    # The picture, what it is called, whether its colours are those of a screen, and what takes which of its channels.
    rows = [(look.texture, "Picture", True, [("diffuseColor", "rgb"), *([("opacity", "a")] if seen_through else [])])]
    rows += [(maps.pictures.get(name), name.title(), screen, taken) for name, screen, taken in _TAKEN]
    for data, name, screen, taken in rows:
        if data is None or data not in names:
            continue
        if reader is None:
            reader = UsdShade.Shader.Define(stage, f"{path}/Coordinates")
            reader.CreateIdAttr("UsdPrimvarReader_float2")
            reader.CreateInput("varname", types.String).Set("st")
            reader.CreateOutput("result", types.Float2)
        texture = UsdShade.Shader.Define(stage, f"{path}/{name}")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", types.Asset).Set(Sdf.AssetPath(names[data]))
        texture.CreateInput("sourceColorSpace", types.Token).Set("sRGB" if screen else "raw")
        for side in ("wrapS", "wrapT"):
            texture.CreateInput(side, types.Token).Set("repeat")
        if name == "Normal":  # of 0 to 1 in the picture, -1 to 1 in space
            texture.CreateInput("scale", types.Float4).Set((2.0, 2.0, 2.0, 1.0))
            texture.CreateInput("bias", types.Float4).Set((-1.0, -1.0, -1.0, 0.0))
        elif name in factors:
            texture.CreateInput("scale", types.Float4).Set(factors[name])
        texture.CreateInput("st", types.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
        for entry, channel in taken:
            kind = types.Float3 if channel == "rgb" else types.Float
            texture.CreateOutput(channel, kind)
            held = shader.GetInput(entry) or shader.CreateInput(entry, types.Normal3f if entry == "normal" else kind)
            held.ConnectToSource(texture.ConnectableAPI(), channel)
    return material


# The other maps: whether in the colours of a screen, and which input takes which channel.
_TAKEN: tuple[tuple[str, bool, list[tuple[str, str]]], ...] = (
    ("normal", False, [("normal", "rgb")]), ("glow", True, [("emissiveColor", "rgb")]),
    ("occlusion", False, [("occlusion", "r")]), ("surface", False, [("roughness", "g"), ("metallic", "b")]),
)  # fmt: skip
