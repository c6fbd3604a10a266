"""What is beside a body: skin that it does not move (clothes on a second skeleton, a pedestal), and keys on bones that
move it in the program they come from only."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import weight_on_bones
from fairswap.wording import counted, listed

# Less skin than this, in vertices, hangs on a bone by rounding.
_HELD = 0.02
# What keeps this far below the hips, of their height, stands under the body.
_BASE = 0.8
# Less of all skin than this is not worth a word.
_SEEN = 0.005
# Tracks that change by less, in parts of a quaternion and in metres, move nothing.
_STILL, _STILL_M = 1e-3, 1e-4
# So many bones beside a body that move, and so few of its own, are the controls of a rig.
_CONTROLS, _OF_THE_BODY = 4, 0.25


def skin_apart(figure: Figure, roles: RoleMap) -> list[Finding]:
    """A warning if skin hangs on bones that are neither the body's, nor below or above them: motion that is carried
    over leaves it where it is."""
    skin, hips = figure.skin_on_bones, roles.bones.get("hips")
    if skin is None or hips is None or not skin.any():
        return []
    skeleton = figure.skeleton
    apart = np.ones(len(skeleton), dtype=bool)
    apart[skeleton.with_ancestors([*skeleton.below(hips).tolist(), *roles.bones.values()])] = False
    share = float(skin[apart].sum() / skin.sum())
    if share < _SEEN:
        return []
    count = len(skeleton)
    held = [(mesh.name, weight_on_bones(mesh, count)) for mesh in figure.meshes]
    names = [repr(name) for name, weights in held if weights[apart].sum() > 0.5 * weights.sum()]
    bones = np.flatnonzero(apart & (skin > 0.0))
    of_what = f" ({listed(names, 3)})" if names else ""
    message = (
        f"{share:.0%} of its skin{of_what} hangs on {counted(len(bones), 'bone')} beside the body's "
        f"({listed((skeleton.labels[bone] for bone in bones), 3)}): it stays behind when the body moves"
    )
    return [Finding("skin-apart", "warning", figure.name, message)]


def skin_above_hips(figure: Figure, roles: RoleMap) -> set[int]:
    """The bones above the hips that hold skin of the body: not a pedestal or a shadow, which lie on the floor."""
    skin, hips = figure.skin_on_bones, roles.bones.get("hips")
    if skin is None or hips is None:
        return set()
    above = figure.skeleton.with_ancestors([hips])[:-1]
    high = figure.skeleton.rest.positions[0, hips, 1]
    low = high - _BASE * (high - figure.floor_m) if high > figure.floor_m else high
    return {bone for bone in above if skin[bone] > _HELD and _highest(figure, bone) > low}


def _highest(figure: Figure, bone: int) -> float:
    """How high the skin comes that hangs on a bone, at rest."""
    found = [
        vertices[((mesh.joints == bone) & (mesh.weights > 0.0)).any(axis=1), 1].max(initial=-np.inf)
        for mesh, vertices in zip(figure.meshes, figure.rest_vertices, strict=True)
    ]
    return float(max(found))


def keys_apart(figure: Figure, roles: RoleMap, clip: Clip) -> list[Finding]:
    """A warning if a clip moves bones that hold no skin beside the body's, and hardly the body: its motion stands on
    the controls of a rig, which move the body only where they were made."""
    skeleton, poses = figure.skeleton, clip.poses
    if "hips" not in roles.bones:
        return []
    moves = np.ptp(poses.rotation_tracks, axis=2).max(axis=1) > _STILL
    for bone, track in poses.translation_by_bone().items():
        moves[bone] |= bool(np.ptp(track, axis=1).max() > _STILL_M)
    own = np.array([bone for role, bone in roles.bones.items() if role not in ("root", "hips")], dtype=np.intp)
    beside = moves.copy()
    beside[skeleton.with_ancestors([*roles.bones.values(), *roles.helpers])] = False
    beside[skeleton.below(roles.bones.get("head", roles.bones["hips"]))] = False
    if figure.skin_on_bones is not None:
        beside &= figure.skin_on_bones <= 0.0
    controls = np.flatnonzero(beside)
    if len(controls) < _CONTROLS or moves[own].sum() > _OF_THE_BODY * len(controls):
        return []
    shown = listed((skeleton.labels[bone] for bone in controls), 3)
    message = (
        f"{counted(len(controls), 'bone')} beside the body's move in it ({shown}), and of its own "
        f"{int(moves[own].sum())}: its keys stand on the controls of a rig"
    )
    remedy = "Bake the motion onto the bones that hold the skin before exporting"
    return [Finding("keys-apart", "warning", clip.name, message, remedy)]
