"""Our own body with the roles of any profile, to show a profile that has no figure with it."""

from __future__ import annotations

from dataclasses import replace

from fairswap.bones.checking import MATCHED, MISSING, RoleState
from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import MUST_HAVE, role_order
from fairswap.demo.anatomy import body_of
from fairswap.model.figure import Figure


def mannequin_of(profile: BoneProfile) -> tuple[Figure, list[RoleState]]:
    """Juniper's bones as the profile calls them, and the state of each role: named in the profile or missing."""
    body = body_of("Juniper")
    skeleton = body.skeleton({})
    names = tuple(profile.roles[bone][0] if bone in profile.roles else bone for bone in body.bones)
    states = [
        RoleState(
            role, MATCHED if role in profile.roles else MISSING, body.index.get(role) if role in profile.roles else None
        )
        for role in sorted({*profile.roles, *MUST_HAVE}, key=role_order)
    ]
    return Figure(profile.name, replace(skeleton, names=names)), states
