"""Where skinned meshes stood when they were bound: the matrix that sets each into the scene.

A skin only says how its mesh stood to its bones. Where all bones moved as one since then, that is enough. Where they
did not (the file was saved in mid-motion, or rests in another pose) no bone tells how the mesh once stood in the world.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats, Integers

# The bones of a skin moved as one since it was bound if none turned further from the others than this; a usual place
# is the one it was bound in if the topmost bone or the heaviest is no further turned from it.
_ONE_DEGREES, _NEAR_DEGREES = 0.5, 50.0
# A matrix with a smaller determinant squeezes all to a plane and says nothing.
_FLAT = 1e-18


@dataclass(frozen=True, eq=False)
class Bound:
    """A mesh as it hangs on its skin.

    Attributes
    ----------
    bones : (joints,) integers
    binds : (joints, 4, 4) array
        Inverse bind matrices of the file.
    worlds : (joints, 4, 4) array
        World matrices of the joints as the file rests.
    heaviest : int
        The joint that holds most of the mesh.
    stands : sequence of (4, 4) arrays
        The usual places that such a mesh is bound in: as its node stands, at the origin, below the node of the bones.
    """

    bones: Integers
    binds: Floats
    worlds: Floats
    heaviest: int
    stands: Sequence[Floats]

    @property
    def top(self) -> int:
        """The joint nearest to the root."""
        return int(np.argmin(self.bones))


def bind_spaces(meshes: Sequence[Bound]) -> list[Floats]:
    """For each mesh the matrix ``(4, 4)`` that sets it, as it was bound, into the scene.

    The mesh of the topmost bone comes first: it is set by what its bones did since then, or into the nearest usual
    place. Others follow it by a bone that they share with those before, else stand as it does.
    """
    out: list[Floats] = [np.eye(4)] * len(meshes)
    known: dict[int, Floats] = {}
    usual: int | None = None
    for number in sorted(range(len(meshes)), key=lambda n: (int(meshes[n].bones.min()), -len(meshes[n].bones))):
        mesh = meshes[number]
        solid = np.flatnonzero(np.abs(np.linalg.det(mesh.binds)) > _FLAT).tolist()
        shared = [joint for joint in solid if int(mesh.bones[joint]) in known]
        if shared:
            joint = mesh.heaviest if mesh.heaviest in shared else shared[0]
            out[number] = known[int(mesh.bones[joint])] @ mesh.binds[joint]
        else:
            out[number], chosen = _alone(mesh, usual)
            usual = chosen if usual is None else usual
        for joint in solid:
            known.setdefault(int(mesh.bones[joint]), out[number] @ np.linalg.inv(mesh.binds[joint]))
    return out


def _alone(mesh: Bound, usual: int | None) -> tuple[Floats, int | None]:
    """Where a mesh stood that shares no bone with others, and which of the usual places that is."""
    motions = mesh.worlds @ mesh.binds
    motion = motions[mesh.heaviest]
    sizes = np.cbrt(np.abs(np.linalg.det(motions[:, :3, :3])))
    size = float(sizes[mesh.heaviest])
    if size <= 0:
        return motion, None
    turns = motions[:, :3, :3] / np.where(sizes > 0, sizes, 1.0)[:, None, None]
    as_one = np.linalg.norm(turns - turns[mesh.heaviest], axis=(1, 2)).max() < np.sqrt(2.0) * np.radians(_ONE_DEGREES)
    if as_one and usual is None:
        return motion, None
    best, chosen, least = motion, None, (_NEAR_DEGREES, 0.0)
    for place, stand in enumerate(mesh.stands):
        own = float(np.cbrt(np.abs(np.linalg.det(stand[:3, :3]))))
        if own <= 0:
            continue
        # Vertices may be stored in a measure of their own: whole numbers, centimetres.
        stand = stand @ np.diag([*[size / own] * 3, 1.0])
        if place == usual:
            return stand, usual
        traces = np.einsum("bij,ij->b", turns[[mesh.top, mesh.heaviest]], stand[:3, :3] / size)
        turned = float(np.degrees(np.arccos(np.clip((traces.max() - 1.0) / 2.0, -1.0, 1.0))))
        # Of places that are turned alike the one that is less far from where the bones rest.
        bound = stand @ np.linalg.pinv(mesh.binds[mesh.top])
        cost = round(turned, 1), float(np.linalg.norm(bound[:3, 3] - mesh.worlds[mesh.top][:3, 3]))
        if cost < least:
            best, chosen, least = stand, place, cost
    return best, chosen
