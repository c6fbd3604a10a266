"""Whether a body with two pairs of limbs is a person's: animals have the same bones, on four feet."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.model.skeleton import Skeleton

# On four legs: the trunk lies across the legs, the arms hang beside them, and the hands come down as far as the feet.
_ACROSS, _BESIDE, _AS_LOW = 40.0, 45.0, 0.3


def why_no_person(skeleton: Skeleton, roles: RoleMap) -> str | None:
    """What is unlike a person in how a body is built; None if nothing is.

    Judged within the body, so that lying and turned figures are persons too. The rest pose of some motion files shows
    no body at all: of those nothing is said.
    """
    at = {role: skeleton.rest.positions[0, bone] for role, bone in roles.bones.items()}
    parts = ("upper_arm", "hand", "upper_leg", "foot", "toes")
    middle = {part: np.mean([at[f"{part}_{side}"] for side in SIDES], axis=0)
              for part in parts if all(f"{part}_{side}" in at for side in SIDES)}  # fmt: skip
    arms, trunk = middle["hand"] - middle["upper_arm"], middle["upper_arm"] - middle["upper_leg"]
    for stood_on in ("foot", "toes"):  # many stand on their toes, the heel far up
        if stood_on not in middle:
            continue
        legs = middle[stood_on] - middle["upper_leg"]
        if min(float(np.linalg.norm(part)) for part in (legs, arms, trunk)) < 1e-6:
            return None
        across, beside = _degrees(trunk, legs), _degrees(arms, legs)
        # As low along the legs, or square to the trunk: that may slope, and legs may stand askew.
        square = legs - (legs @ trunk) / (trunk @ trunk) * trunk
        apart = middle[stood_on] - middle["hand"]
        lower = min(abs(apart @ down) / max(down @ down, 1e-12) for down in (legs, square))
        if abs(across - 90.0) < _ACROSS and beside < _BESIDE and lower < _AS_LOW:
            return (
                f"it stands on four legs: its trunk is {across:.0f} degrees from its legs, its hands are as low as its "
                f"{'feet' if stood_on == 'foot' else 'toes'}"
            )
    return None


def _degrees(a: np.ndarray, b: np.ndarray) -> float:
    cosine = float(a @ b) / float(np.linalg.norm(a) * np.linalg.norm(b))
    return float(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))))
