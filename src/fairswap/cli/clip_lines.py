"""The reports of ``fairswap clip`` for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import click

from fairswap.cli import manners


def change_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(report["verb"], bold=True)
    if report["clips"] and "before" in report["clips"][0]:
        rows = []
        for row in report["clips"]:
            a, b = row["before"], row["after"]
            rows.append((a["name"], b["name"], *(f"{a[k]:g} > {b[k]:g}" if a[k] != b[k] else f"{a[k]:g}"
                                                 for k in ("frames", "rate", "seconds", "travel_m"))))  # fmt: skip
        yield from manners.table(rows, ("clip", "now", "frames", "rate", "seconds", "travels m"))
    else:
        rows = [(row["clip"], str(row["frames"]), f"{row['seconds']:.2f}") for row in report["clips"]]
        yield from manners.table(rows, ("clip", "frames", "seconds"))
    yield from _tail(report)


def loop_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"cycles in {report['take']}", bold=True)
    rows = [
        (str(n), f"{c['start_s']:.3f}", f"{c['end_s']:.3f}", str(c["frames"]), f"{c['seam']['degrees']:.2f}",
         f"{c['seam']['cm']:.2f}", f"{c['seam']['cm_s']:.1f}")
        for n, c in enumerate(report["cycles"], 1)
    ]  # fmt: skip
    yield from manners.table(rows, ("best", "from s", "to s", "frames", "seam degrees", "cm", "cm/s"))
    if report["closed"]:
        seam = report["closed"]
        told = f"{seam['degrees']:.3f} degrees, {seam['cm']:.3f} cm, {seam['cm_s']:.1f} cm/s"
        yield f"  number {report['pick']} closed; its seam is now {told}"
    yield from _tail(report)


def thin_lines(report: dict[str, Any]) -> Iterator[str]:
    rows = []
    for row in report["clips"]:
        left = 100 * row["keys"] / row["keys_before"]
        feet = "" if row["feet_mm"] is None else f"{row['feet_mm']:.2f}"
        off = f"{row['worst_mm']:.2f}", f"{row['worst_degrees']:.2f}", feet
        rows.append((row["clip"], str(row["keys_before"]), str(row["keys"]), f"{left:.1f}", *off))
    yield from manners.table(rows, ("clip", "keys before", "keys", "left %", "worst mm", "degrees", "feet mm"))
    yield from _tail(report)


def clean_lines(report: dict[str, Any]) -> Iterator[str]:
    faults = report["faults"]
    rows = [(f["clip"], f["kind"], f["bone"], f"{f['first']}-{f['last']}", f"{f['size']:.2f}") for f in faults[:40]]
    if rows:
        yield from manners.table(rows, ("clip", "fault", "bone", "frames", "degrees or cm"))
    yield f"  {len(faults)} faults" + (" (the first 40 shown)" if len(faults) > 40 else "")
    yield from _tail(report)


def describe_lines(clips: Sequence[dict[str, Any]]) -> Iterator[str]:
    for clip in clips:
        facts = f"{clip['frames']} frames at {clip['rate']:g}, {clip['duration_s']:.2f} s"
        yield click.style(clip["clip"], bold=True) + f"  {facts}"
        yield (
            f"  travels {clip['travel_m']:.2f} m (way {clip['way_m']:.2f} m, {clip['speed_m_s']:.2f} m/s, at most "
            f"{clip['fastest_m_s']:.2f}); still {100 * clip['still_share']:.0f} % of the time"
        )
        if clip["contacts"] is not None:
            for side in ("left", "right"):
                own = [c for c in clip["contacts"] if c["side"] == side]
                spans = ", ".join(f"{c['part']} {c['start_s']:.2f}-{c['stop_s']:.2f}" for c in own[:8])
                yield f"  {side} foot stands: {spans}{' …' if len(own) > 8 else ''}"
        rows = [
            (b["bone"], b["role"], f"{b['range_degrees']:.1f}", f"{b['from_rest_degrees']:.1f}", f"{b['range_cm']:.1f}")
            for b in sorted(clip["bones"], key=lambda b: -b["range_degrees"])
            if b["keyed"]
        ]
        yield from manners.table(rows[:30], ("bone", "role", "range", "from rest", "cm"))


def _tail(report: dict[str, Any]) -> Iterator[str]:
    yield from (f"  wrote    {path}" for path in report.get("written", []))
    yield from manners.finding_lines(report.get("findings", []))
