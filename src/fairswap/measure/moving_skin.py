"""Whether skin goes along in a motion: bones can be judged right while some of it is held back by another one."""

from __future__ import annotations

import numpy as np

from fairswap.bones.apart import skin_above_hips
from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, deformed_vertices
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.model.signals import frames_across
from fairswap.wording import counted, listed

# Skin above the hips that is so far from where they take the body, in heights of the figure, is seen to be.
_BEHIND = 0.1
# So many frames are looked at for tears, the first and the last among them: what is held back is so all the way.
_LOOKED_AT = 5
# An edge is torn if it is longer than at rest by so much of the figure's height, and so many times as long. Skirts
# between legs that split, and skin at a shoulder, come to less than half of that.
_LONGER, _TIMES = 0.3, 4.0


def skin_in_motion(figure: Figure, roles: RoleMap, clip: Clip) -> list[Finding]:
    """A warning if skin above the hips stays behind in a clip, or else if any of it is drawn out as far as no skin
    goes."""
    if not figure.meshes or clip.skeleton != figure.skeleton:
        return []
    return _left_behind(figure, roles, clip) or _torn(figure, clip)


def _left_behind(figure: Figure, roles: RoleMap, clip: Clip) -> list[Finding]:
    """Skin that hangs on bones above the hips, where those do not go along with them."""
    held = sorted(skin_above_hips(figure, roles))
    if not held:
        return []
    hips, chain, rest = roles.bones["hips"], ChainWorld(clip.poses), figure.skeleton.rest
    away = []
    for bone in held:
        middle = np.nan_to_num(figure.skin_boxes[bone].mean(axis=0))  # it may hold a share of some vertices only
        then = rotate(rest.rotations[0, bone], middle) + rest.positions[0, bone] - rest.positions[0, hips]
        wanted = rotate(multiply(chain.rotation(hips), conjugate(rest.rotations[0, hips])), then) + chain.position(hips)
        found = rotate(chain.rotation(bone), middle) + chain.position(bone)
        away.append(np.linalg.norm(found - wanted, axis=1))
    frame = int(np.max(away, axis=0).argmax())
    worst = float(np.max(away))
    if worst < _BEHIND * figure.height_m:
        return []
    skin = figure.skin_on_bones
    assert skin is not None
    share = max(float(skin[held].sum() / skin.sum()), 0.001)
    names = listed([figure.skeleton.labels[bone] for bone in held], 3)
    message = (
        f"{share:.1%} of its skin hangs on {names}, above the hips, "
        f"and is {100 * worst:.0f} cm from where they take the body (at {frame / float(clip.rate):.2f} s)"
    )
    return [Finding("skin-left-behind", "warning", clip.name, message)]


def _torn(figure: Figure, clip: Clip) -> list[Finding]:
    frames = frames_across(clip.frames, _LOOKED_AT)
    poses = clip.at(frames / float(clip.rate))
    world, rest = poses.world(), figure.rest_vertices
    torn, longest, when, bones = 0, 0.0, 0, set[int]()
    for number, mesh in enumerate(figure.meshes):
        resting = _edges(mesh, rest[number])
        torn_from = np.maximum(resting + _LONGER * figure.height_m, _TIMES * resting)
        found = np.zeros(len(mesh.triangles), dtype=bool)
        for frame, of_clip in enumerate(frames.tolist()):
            now = _edges(mesh, deformed_vertices(mesh, world, frame, poses, number))
            pulled = now > torn_from
            found |= pulled.any(axis=0)
            if pulled.any() and now[pulled].max() > longest:
                longest, when = float(now[pulled].max()), of_clip
        torn += int(found.sum())
        bones |= set(mesh.main_bones[mesh.triangles[found]].ravel().tolist())
    if not torn:
        return []
    names = [name for bone, name in enumerate(figure.skeleton.labels) if bone in bones]
    message = (
        f"its skin is torn: {counted(torn, 'triangle')} drawn out to {longest:.2f} m (at {when / float(clip.rate):.2f} "
        f"s), between what hangs on {listed(names, 4)}"
    )
    return [Finding("skin-torn", "warning", clip.name, message)]


def _edges(mesh: Mesh, vertices: Floats) -> Floats:
    """How long two edges of each triangle are ``(2, triangles)``: a corner that is pulled away draws out two."""
    corners = np.ascontiguousarray(vertices.T, dtype=np.float32)[:, mesh.triangles.T]  # component first, for speed
    along = corners[:, 1:] - corners[:, :2]
    return np.asarray(np.sqrt(np.einsum("ces,ces->es", along, along)))
