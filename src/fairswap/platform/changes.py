"""What fitting changed, told one by one."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Change:
    """One thing that fitting did: the rule, what, and what it cost (degrees, millimetres, bytes; nothing if exact)."""

    rule: str
    what: str
    cost: str = ""
