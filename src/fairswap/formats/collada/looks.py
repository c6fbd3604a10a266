"""Materials: the colour, picture and opacity of an effect's common profile."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.collada.library import Library, all_below, below, child, children, is_two_sided
from fairswap.formats.images import picture_as_known
from fairswap.formats.markup import Tag, numbers_of
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import Look, SceneBuilder
from fairswap.model.mesh import Blending

_SHADINGS = ("phong", "lambert", "blinn", "constant")


@dataclass
class Looks:
    """The materials of a document, each made once: by its element and whether its geometry is two-sided."""

    library: Library
    builder: SceneBuilder
    pictures: Pictures
    _made: dict[tuple[int, bool], int] = field(default_factory=dict)

    def bound_in(self, instance: Tag) -> dict[str, Tag]:
        """The materials that an instance binds to the symbols of its geometry."""
        rows = all_below(below(instance, "bind_material", "technique_common"), "instance_material")
        return {
            one.get("symbol") or "": self.library.at(one, one.get("target"), "material")
            for one in rows
            if (one.get("target") or "").removeprefix("#") in self.library.by_id
        }

    def number(self, material: Tag | None, two_sided: bool = False) -> int | None:
        """The material's number in the scene; None for none."""
        if material is None:
            return None
        key = id(material), two_sided
        if key not in self._made:
            self._made[key] = self.builder.look(self._look(material, two_sided))
        return self._made[key]

    def _look(self, material: Tag, two_sided: bool) -> Look:
        name = material.get("name") or material.get("id") or "material"
        held = child(material, "instance_effect")
        if held is None:
            return Look(name, two_sided=two_sided)
        effect = self.library.at(held, held.get("url"), "effect")
        profile = child(effect, "profile_COMMON")
        techniques = [one for technique in all_below(profile, "technique") for one in technique]
        shading = next((one for one in techniques if one.tag in _SHADINGS and isinstance(one, Tag)), None)
        two_sided = two_sided or is_two_sided(effect)
        if profile is None or shading is None:
            return Look(name, two_sided=two_sided)
        which = "emission" if shading.tag == "constant" and child(shading, "diffuse") is None else "diffuse"
        color, picture = self._color(profile, child(shading, which))
        glow, _ = self._color(profile, child(shading, "emission"))
        alpha, is_masked = self._alpha(profile, shading)
        cutoff = next((float(numbers_of(tag, count=1)[0]) for tag in all_below(effect, "alpha_cutoff")), None)
        blending: Blending = "mask" if cutoff is not None else "blend" if is_masked or alpha < 0.999 else "opaque"
        red, green, blue = (float(part) for part in (np.array(color[:3]) if color else np.full(3, 0.8)))
        if picture is not None:
            red = green = blue = 1.0
        return Look(
            name, (red, green, blue), alpha, picture, blending, cutoff if cutoff is not None else 0.5, two_sided,
            glow=(0.0, 0.0, 0.0) if which == "emission" or not glow else (glow[0], glow[1], glow[2]),
        )  # fmt: skip

    def _alpha(self, profile: Tag, shading: Tag) -> tuple[float, bool]:
        """The opacity (COLLADA 1.4.1, determining transparency), and whether a picture says where it is."""
        held = child(shading, "transparent")
        amount = self._number(profile, child(shading, "transparency"))
        if held is None:
            # Without a colour of what shines through, programs mean the opacity itself; 0 is what some write for 1.
            return (amount if amount else 1.0), False
        mode = (held.get("opaque") or "A_ONE").upper()
        color, picture = self._color(profile, held)
        amount = 1.0 if amount is None else amount
        if picture is not None:
            return (1.0 if mode.endswith("ZERO") else amount or 1.0), True
        red, green, blue, own = color or (1.0, 1.0, 1.0, 1.0)
        light = 0.212671 * red + 0.715160 * green + 0.072169 * blue
        part = own if mode.startswith("A") else light
        alpha = part * amount if mode.endswith("ONE") else 1.0 - part * amount
        # Wholly unseen is what a body never is: the modes are often mixed up.
        return (float(np.clip(alpha, 0.0, 1.0)) or 1.0), False

    def _number(self, profile: Tag, tag: Tag | None) -> float | None:
        if tag is None:
            return None
        held = child(tag, "float")
        named = child(tag, "param")
        if held is None and named is not None:
            held = child(self._param(profile, named.get("ref")), "float")
        return None if held is None or not held.words else float(numbers_of(held)[0])

    def _color(self, profile: Tag, tag: Tag | None) -> tuple[tuple[float, float, float, float] | None, bytes | None]:
        """The colour of one part of a shading, linear, and its picture."""
        if tag is None:
            return None, None
        texture = child(tag, "texture")
        if texture is not None:
            return None, self._picture(profile, texture)
        held, named = child(tag, "color"), child(tag, "param")
        if held is None and named is not None:
            param = self._param(profile, named.get("ref"))
            held = next(
                (
                    one
                    for one in (() if param is None else param)
                    if one.tag in ("float4", "float3") and isinstance(one, Tag)
                ),
                None,
            )
        if held is None or len(held.words) < 3:
            return None, None
        values = np.clip(np.append(numbers_of(held), 1.0)[:4], 0.0, 1.0).tolist()
        return (values[0], values[1], values[2], values[3]), None

    def _param(self, profile: Tag, sid: str | None) -> Tag | None:
        return next((one for one in all_below(profile, "newparam") if one.get("sid") == sid), None)

    def _picture(self, profile: Tag, texture: Tag) -> bytes | None:
        """The bytes of the image that a texture leads to: by a sampler and a surface, or straight away."""
        name = texture.get("texture") or ""
        for _ in range(3):
            param = self._param(profile, name)
            if param is None:
                break
            held = next((one for step in ("sampler2D", "surface") for one in children(param, step)), None)
            if held is None:
                break
            image = child(held, "instance_image")
            if image is not None:
                name = (image.get("url") or "").removeprefix("#")
                break
            inner = child(held, "source")
            inner = child(held, "init_from") if inner is None else inner
            name = (inner.text or "").strip() if inner is not None else ""
        image = self.library.by_id.get(name)
        if image is None or image.tag != "image":
            return self.pictures.missing(name)
        held = child(image, "init_from")
        inside = below(image, "init_from", "hex")
        inside = child(image, "data") if inside is None else inside
        if inside is not None:
            try:
                data = bytes.fromhex("".join(inside.words))
            except ValueError:
                return self.pictures.missing(name)
            return picture_as_known(data, image.get("name") or "") or self.pictures.missing(name)
        reference = below(image, "init_from", "ref")
        reference = held if reference is None else reference
        path = (reference.text or "").strip() if reference is not None else ""
        try:
            found = self.library.opened(path) if path else None
        except InputError:
            found = None
        known = picture_as_known(found, path) if found else None
        return known if known is not None else self.pictures.missing(path or name)
