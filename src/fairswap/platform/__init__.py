"""Platforms: the demands of target ecosystems, written down once; files checked against them and made to fit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.platform.checking import Check, RuleResult, check
    from fairswap.platform.fitting import Fitted, fit
    from fairswap.platform.rules import Platform, template
    from fairswap.platform.rules import built_in_platforms as platforms
    from fairswap.platform.rules import platform_named as named

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "Check": "fairswap.platform.checking",
    "Fitted": "fairswap.platform.fitting",
    "Platform": "fairswap.platform.rules",
    "RuleResult": "fairswap.platform.checking",
    "check": "fairswap.platform.checking",
    "fit": "fairswap.platform.fitting",
    "named": "fairswap.platform.rules:platform_named",
    "platforms": "fairswap.platform.rules:built_in_platforms",
    "template": "fairswap.platform.rules",
}
__all__ = [
    "Check",
    "Fitted",
    "Platform",
    "RuleResult",
    "check",
    "fit",
    "named",
    "platforms",
    "template",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
