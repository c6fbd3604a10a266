"""Which bone is which: found, checked, shown, paired, and kept in bone profiles."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.bones.assignment import roles_of
    from fairswap.bones.checking import ProfileCheck, RoleListing, check, show
    from fairswap.bones.drafting import BoneDraft, draft
    from fairswap.bones.profile import (
        BoneProfile,
    )
    from fairswap.bones.profile import (
        built_in_profiles as profiles,
    )
    from fairswap.bones.profile import (
        profile_named as named,
    )
    from fairswap.bones.profile import (
        saved_profiles as saved,
    )
    from fairswap.bones.roles import RoleMap
    from fairswap.figures.merging import merge
    from fairswap.retarget.matching import match

_HOMES = {
    "bones.assignment": "roles_of",
    "bones.checking": "ProfileCheck RoleListing check show",
    "bones.drafting": "BoneDraft draft",
    "bones.profile": "BoneProfile named=profile_named profiles=built_in_profiles saved=saved_profiles",
    "bones.roles": "RoleMap",
    "figures.merging": "merge",
    "retarget.matching": "match",
}
__all__ = [
    "BoneDraft", "BoneProfile", "ProfileCheck", "RoleListing", "RoleMap", "check", "draft", "match", "merge",
    "named", "profiles", "roles_of", "saved", "show",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
