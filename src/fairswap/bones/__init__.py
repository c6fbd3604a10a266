"""Which bone is which: found, checked, shown, paired, and kept in bone profiles."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.bones.assignment import roles_of
    from fairswap.bones.checking import ProfileCheck, RoleListing, check, show
    from fairswap.bones.drafting import BoneDraft, draft
    from fairswap.bones.profile import BoneProfile
    from fairswap.bones.profile import built_in_profiles as profiles
    from fairswap.bones.profile import profile_named as named
    from fairswap.bones.profile import saved_profiles as saved
    from fairswap.bones.roles import RoleMap
    from fairswap.figures.merging import merge
    from fairswap.retarget.matching import match

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "BoneDraft": "fairswap.bones.drafting",
    "BoneProfile": "fairswap.bones.profile",
    "ProfileCheck": "fairswap.bones.checking",
    "RoleListing": "fairswap.bones.checking",
    "RoleMap": "fairswap.bones.roles",
    "check": "fairswap.bones.checking",
    "draft": "fairswap.bones.drafting",
    "match": "fairswap.retarget.matching",
    "merge": "fairswap.figures.merging",
    "named": "fairswap.bones.profile:profile_named",
    "profiles": "fairswap.bones.profile:built_in_profiles",
    "roles_of": "fairswap.bones.assignment",
    "saved": "fairswap.bones.profile:saved_profiles",
    "show": "fairswap.bones.checking",
}
__all__ = [
    "BoneDraft",
    "BoneProfile",
    "ProfileCheck",
    "RoleListing",
    "RoleMap",
    "check",
    "draft",
    "match",
    "merge",
    "named",
    "profiles",
    "roles_of",
    "saved",
    "show",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
