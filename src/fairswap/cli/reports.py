"""What reports have in common as data; each command adds a struct of its own. ``--json`` prints them.

Their JSON Schema is made from these types: docs/reports.schema.json holds all of them.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import msgspec

from fairswap.errors import Finding, Severity
from fairswap.measure.verdict import PartScore

if TYPE_CHECKING:
    from fairswap.figures.dressing.cutting import Cutting
    from fairswap.measure.comparison import Comparison
    from fairswap.measure.cycles import Jump
    from fairswap.measure.differences import ContactsKept, Footing, RoleDifference
    from fairswap.measure.intersection import LimbInside
    from fairswap.measure.pops import Pop
    from fairswap.platform.checking import RuleResult


class Report(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The base of all reports."""


class FindingRow(Report, frozen=True):
    """One thing worth telling, with what to do about it on the command line."""

    code: str
    severity: Severity
    place: str
    message: str
    remedy: str


class ComparisonRow(Report, frozen=True):
    """A result compared with its source: angles in degrees, the hips' path in percent of the leg."""

    clip: str
    verdict: str
    likeness: float
    looks_same: bool
    seconds: float
    duration_difference_s: float
    limbs_mean_degrees: float
    limbs_worst_degrees: float
    limbs_turn_degrees: float
    hips_mean_percent: float
    hips_rms_percent: float
    hips_worst_percent: float
    source_footing: Footing
    result_footing: Footing
    contacts: ContactsKept
    jerk_ratio: float
    starts_over: Jump | None
    pops: tuple[Pop, ...]
    inside_body_s: tuple[float | None, float | None]
    inside: tuple[LimbInside, ...]
    cleared: bool
    face_missed: float | None
    garment_below: tuple[str, float] | None
    parts: tuple[PartScore, ...]
    roles: tuple[RoleDifference, ...]


class RuleRow(Report, frozen=True):
    """One rule of a platform: allowed, measured, and what mends it."""

    rule: str
    place: str
    allowed: str
    measured: str
    ok: bool
    severity: Severity
    remedy: str


class CutRow(Report, frozen=True):
    """How one piece of clothing and the body pass through each other: depths in millimetres, shares of cloth and time.

    ``worst_at_s`` is nothing where it is deepest at rest.
    """

    piece: str
    part: str
    rest_mm: float
    worst_mm: float
    worst_at_s: float | None
    mean_mm: float
    area: float
    time: float


def cut_rows(cutting: Cutting) -> tuple[CutRow, ...]:
    """Cutting as it is reported."""
    return tuple(
        CutRow(row.piece, row.part, 1000.0 * row.rest_m, 1000.0 * row.worst_m, row.worst_at_s, 1000.0 * row.mean_m,
               row.area, row.time)
        for row in cutting.pieces
    )  # fmt: skip


def finding_rows(findings: Iterable[Finding]) -> tuple[FindingRow, ...]:
    """Findings as they are reported here."""
    from fairswap.cli.remedies import worded_remedy

    return tuple(FindingRow(f.code, f.severity, f.place, f.message, worded_remedy(f)) for f in findings)


def comparison_row(found: Comparison) -> ComparisonRow:
    """A comparison as it is reported."""
    return ComparisonRow(**{name: getattr(found, name) for name in _MEASURES})


# What a comparison is asked for; reports that say more begin with these.
_MEASURES = ComparisonRow.__struct_fields__


def rule_row(row: RuleResult) -> RuleRow:
    """A rule as it is reported."""
    from fairswap.cli.remedies import worded_rule

    return RuleRow(row.rule, row.place, row.allowed, row.measured, row.ok, row.severity, worded_rule(row))
