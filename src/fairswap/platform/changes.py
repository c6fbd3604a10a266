"""What fitting changed, told one by one."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Change:
    """One thing that fitting did: the rule, what, and what it cost (degrees, millimetres, bytes; nothing if exact).

    ``amount`` is that cost as a number, by which the dearest of several changes by one rule are found (0 if exact).
    """

    rule: str
    what: str
    cost: str = ""
    amount: float = 0.0
