"""Platforms: the demands of target ecosystems, written down once; files checked against them and made to fit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.platform.checking import Check, RuleResult, check
    from fairswap.platform.fitting import fit
    from fairswap.platform.preparing import Fitted
    from fairswap.platform.rules import Platform, template
    from fairswap.platform.rules import built_in_platforms as platforms
    from fairswap.platform.rules import platform_named as named

_HOMES = {
    "platform.checking": "Check RuleResult check",
    "platform.fitting": "fit",
    "platform.preparing": "Fitted",
    "platform.rules": "Platform named=platform_named platforms=built_in_platforms template",
}
__all__ = [
    "Check", "Fitted", "Platform", "RuleResult", "check", "fit", "named", "platforms", "template",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
