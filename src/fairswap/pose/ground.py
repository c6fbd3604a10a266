"""What a figure stands on the ground with: its legs, not the train of a dress, a blade or the pedestal it came on."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.stand_ins import carrier_of


def lowest_sole(figure: Figure, roles: RoleMap, world: WorldTransforms) -> float:
    """How high the lowest skin is from the knees down, metres, in a pose of one frame; that of any skin if there
    is none of both legs, as under a long robe."""
    legs = np.zeros((len(SIDES), len(figure.skeleton)), dtype=bool)
    for side, of_leg in zip(SIDES, legs, strict=True):
        shin = roles.bones[f"lower_leg_{side}"]
        of_leg[[carrier_of(figure, bone) for bone in (shin, *figure.skeleton.below(shin).tolist())]] = True
    lowest, whole = np.full(len(SIDES), np.inf), np.inf
    for mesh in figure.meshes:
        heights, owners = deformed_vertices(mesh, world, 0)[:, 1], mesh.main_bones
        whole = min(whole, float(heights.min(initial=np.inf)))
        lowest = np.minimum(lowest, [heights[of_leg[owners]].min(initial=np.inf) for of_leg in legs])
    return float(lowest.min()) if np.isfinite(lowest).all() else whole
