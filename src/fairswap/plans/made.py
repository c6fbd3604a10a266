"""What comes of a task, as it goes from the worker to whoever gave it, and into the ledger."""

from __future__ import annotations

import msgspec


class Told(msgspec.Struct, frozen=True):
    """One thing worth telling of a result."""

    code: str
    severity: str
    message: str


class Measures(msgspec.Struct, frozen=True):
    """How a result compares with its source, in the numbers that say most; ``fits`` where it is for a platform."""

    likeness: float
    verdict: str
    looks_same: bool
    worst_part: str
    because: str
    seconds: float
    limbs_mean_degrees: float
    hips_mean_percent: float
    slide_cm_s: float
    sole_below_cm: float
    jerk_ratio: float
    fits: bool | None = None
    broken_rules: tuple[str, ...] = ()


class Made(msgspec.Struct, frozen=True):
    """What came of a task: files by their names in the folder of results, or why there is none. ``lost`` says that it
    is not the task's fault: another time it may be done."""

    result: str
    files: dict[str, bytes] = {}
    digests: dict[str, str] = {}
    measures: Measures | None = None
    findings: tuple[Told, ...] = ()
    error: str = ""
    lost: bool = False
    took_s: float = 0.0
    worker: str = ""
    peak_mb: float = 0.0
