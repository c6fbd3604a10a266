"""Conversions made to fit a platform: what is written is what is judged."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from fairswap.errors import Finding
from fairswap.jobs.comparing import compare_prepared
from fairswap.jobs.performer import Performer
from fairswap.measure.comparison import Motion
from fairswap.platform.preparing import Origin
from fairswap.platform.rules import Platform, platform_named
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    from fairswap.jobs.conversion import Conversion, Conversions


def as_fitted(found: Conversions, ready: Performer, platform: Platform | str | Path) -> Conversions:
    """The figure and its clips as a platform wants them, each compared anew with its source."""
    fitted = ready.prepared_for(platform_named(platform)).with_clips(found.clips)
    own = fitted.origins[-len(found.done) :]  # those before them are clips that the figure had
    rows = [_judged(row, fitted.rigged, origin) for row, origin in zip(found.done, own, strict=True)]
    return replace(found, done=tuple(rows), fitted=fitted)


def _judged(row: Conversion, result: RiggedFigure, origin: Origin) -> Conversion:
    if len(origin.parts) > 1:
        message = f"it was cut into {len(origin.parts)} clips to fit: the verdict is of the whole, before it was fitted"
        told = Finding("cut-not-judged", "note", row.original.name, message)
        return replace(row, parts=origin.parts, told_of_fit=(told,))
    comparison = compare_prepared(Motion(row.swap.source, row.original), Motion(result, origin.parts[0]))
    return replace(row, comparison=comparison, before_fitting=row.comparison, parts=origin.parts)
