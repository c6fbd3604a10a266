"""Skin that no body moves: clothes on a second skeleton that nobody joined, props, a pedestal."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.model.figure import Figure
from fairswap.model.mesh import weight_on_bones
from fairswap.wording import counted, listed

# Less of all skin than this is not worth a word.
_SEEN = 0.005


def skin_apart(figure: Figure, roles: RoleMap) -> list[Finding]:
    """A warning if skin hangs on bones that are neither the body's, nor below or above them: motion that is carried
    over leaves it where it is."""
    skin, hips = figure.skin_on_bones, roles.bones.get("hips")
    if skin is None or hips is None:
        return []
    skeleton = figure.skeleton
    apart = np.ones(len(skeleton), dtype=bool)
    apart[skeleton.with_ancestors([*skeleton.below(hips).tolist(), *roles.bones.values()])] = False
    share = float(skin[apart].sum() / skin.sum())
    if share < _SEEN:
        return []
    count = len(skeleton)
    held = {mesh.name: weight_on_bones(mesh, count) for mesh in figure.meshes}
    names = [repr(name) for name, weights in held.items() if weights[apart].sum() > 0.5 * weights.sum()]
    bones = np.flatnonzero(apart & (skin > 0.0))
    of_what = f" ({listed(names, 3)})" if names else ""
    message = (
        f"{share:.0%} of its skin{of_what} hangs on {counted(len(bones), 'bone')} beside the body's "
        f"({listed((skeleton.labels[bone] for bone in bones), 3)}): it stays behind when the body moves"
    )
    return [Finding("skin-apart", "warning", figure.name, message)]
