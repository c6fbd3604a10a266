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
    # Many stand on their toes, the heel far up.
    stood_on = "toes" if all(f"toes_{side}" in at for side in SIDES) else "foot"
    legs = np.mean([at[f"{stood_on}_{side}"] - at[f"upper_leg_{side}"] for side in SIDES], axis=0)
    arms = np.mean([at[f"hand_{side}"] - at[f"upper_arm_{side}"] for side in SIDES], axis=0)
    trunk = np.mean([at[f"upper_arm_{side}"] - at[f"upper_leg_{side}"] for side in SIDES], axis=0)
    length = float(np.linalg.norm(legs))
    if min(length, float(np.linalg.norm(arms)), float(np.linalg.norm(trunk))) < 1e-6:
        return None
    across, beside = _degrees(trunk, legs), _degrees(arms, legs)
    feet, hands = (np.mean([at[f"{part}_{side}"] for side in SIDES], axis=0) for part in (stood_on, "hand"))
    # As low along the legs, or square to the trunk: that may slope, and legs may stand askew.
    square = legs - (legs @ trunk) / (trunk @ trunk) * trunk
    lower = min(abs((feet - hands) @ down) / max(down @ down, 1e-12) for down in (legs, square))
    if abs(across - 90.0) < _ACROSS and beside < _BESIDE and lower < _AS_LOW:
        return (
            f"it stands on four legs: its trunk is {across:.0f} degrees from its legs, its hands are as low as its feet"
        )
    return None


def _degrees(a: np.ndarray, b: np.ndarray) -> float:
    cosine = float(a @ b) / float(np.linalg.norm(a) * np.linalg.norm(b))
    return float(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))))
