"""Limbs that hang further up than on what they are part of: legs on the spine, arms on the neck. Their joints stay.

Some rigs hang the thighs on the first bone of the spine, or the collar bones on the neck, and move them back in their
own clips when that bends. Motion that comes from elsewhere would take the limbs along with it.
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, rotate
from fairswap.pose.rigged import RiggedFigure


def keep_limb_joints(target: RiggedFigure, chain: ChainWorld) -> None:
    """Move thighs that do not hang on the hips, and shoulders that do not hang on the last of the spine, in place, to
    where they are beside it at rest."""
    roles, spine = target.roles.bones, target.roles.chain("spine")
    for side in SIDES:
        _keep(target, chain, roles[f"upper_leg_{side}"], roles["hips"])
        shoulder = roles.get(f"shoulder_{side}", roles[f"upper_arm_{side}"])
        _keep(target, chain, shoulder, roles[spine[-1]] if spine else roles["hips"])


def _keep(target: RiggedFigure, chain: ChainWorld, bone: int, holder: int) -> None:
    parent, rest = int(target.skeleton.parents[bone]), target.resting_world
    above = target.skeleton.with_ancestors([parent])
    # Bones that keep their rest hold it there already.
    if holder not in above or not any(one in target.role_of_bone for one in above[above.index(holder) + 1 :]):
        return
    aside = rotate(conjugate(rest.rotations[0, holder]), rest.positions[0, bone] - rest.positions[0, holder])
    place = chain.position(holder) + rotate(chain.rotation(holder), aside)
    local = rotate(conjugate(chain.rotation(parent)), place - chain.position(parent))
    chain.move(bone, np.ascontiguousarray(local.T))
