"""Preview materials: colour, picture, opacity and glow of a UsdPreviewSurface, read and written."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import Look, SceneBuilder
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
        return Look(
            name, (1.0, 1.0, 1.0) if picture is not None else (color[0], color[1], color[2]), opacity, picture,
            blending, cutoff or 0.5, two_sided, (glow[0], glow[1], glow[2]), self._picture(shader, "normal"),
            self._numbers(shader, "roughness", (0.5,))[0], self._numbers(shader, "metallic", (0.0,))[0],
        )  # fmt: skip

    def _numbers(self, shader: Any, name: str, otherwise: tuple[float, ...]) -> tuple[float, ...]:
        entry = shader.GetInput(name)
        value = entry.Get() if entry else None
        if value is None:
            return otherwise
        values = np.ravel(np.array(value, dtype=np.float64))
        if len(values) != len(otherwise) or not np.isfinite(values).all():
            return otherwise
        return tuple(np.clip(values, 0.0, 1.0).tolist())

    def _picture(self, shader: Any, name: str) -> bytes | None:
        """The picture that an input takes its values from."""
        entry = shader.GetInput(name)
        if not entry or not entry.HasConnectedSource():
            return None
        source = entry.GetConnectedSources()[0][0].source.GetPrim()
        file = source.GetAttribute("inputs:file")
        asset = file.Get() if file else None
        return self.pictures.found([getattr(asset, "path", "") or ""])


def write_look(stage: Any, path: str, look: Material, title: str, picture: str | None) -> Any:
    """A preview material at ``path``; ``picture`` is the name of its colour picture."""
    from pxr import Sdf, UsdShade

    material = UsdShade.Material.Define(stage, path)
    material.GetPrim().SetDisplayName(title)
    shader = UsdShade.Shader.Define(stage, f"{path}/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    color = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
    opacity = shader.CreateInput("opacity", Sdf.ValueTypeNames.Float)
    shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(0.9)
    opacity.Set(float(look.alpha) if look.blending != "opaque" else 1.0)
    if look.blending == "mask":
        shader.CreateInput("opacityThreshold", Sdf.ValueTypeNames.Float).Set(float(look.cutoff))
    if picture is None:
        color.Set(tuple(map(float, look.color)))
        return material
    reader = UsdShade.Shader.Define(stage, f"{path}/Coordinates")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    texture = UsdShade.Shader.Define(stage, f"{path}/Picture")
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(picture))
    texture.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("sRGB")
    for side in ("wrapS", "wrapT"):
        texture.CreateInput(side, Sdf.ValueTypeNames.Token).Set("repeat")
    texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
    texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    color.ConnectToSource(texture.ConnectableAPI(), "rgb")
    if look.blending != "opaque":
        texture.CreateOutput("a", Sdf.ValueTypeNames.Float)
        opacity.ConnectToSource(texture.ConnectableAPI(), "a")
    return material
