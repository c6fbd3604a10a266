"""What a run came to: each result as it stands, and what counts as failure in it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from fairswap.plans.ledger import Record
from fairswap.plans.made import Measures
from fairswap.plans.recipe import FailureWords, Plan
from fairswap.plans.tasks import Missing, Task

if TYPE_CHECKING:
    import pandas

State = Literal["done", "failed", "edited", "in the way", "not begun"]


@dataclass(frozen=True)
class Result:
    """One result of a plan: what is known of it, whether this run made it, and what counts as failure in it.

    ``state`` is ``done``; ``failed``, with its error; ``edited``: its file was changed by hand and is left as it is;
    ``in the way``: another file has its name; or ``not begun``.
    """

    task: Task
    state: State
    record: Record | None = None
    why: str = ""
    faults: tuple[str, ...] = ()

    @property
    def measures(self) -> Measures | None:
        """How it compares with its source; None of one that was changed by hand, about which that says nothing."""
        return None if self.record is None or self.state == "edited" else self.record.measures

    @property
    def ok(self) -> bool:
        """Whether it is there and nothing counts as failure."""
        return self.state in ("done", "edited") and not self.faults

    def __repr__(self) -> str:
        error = "" if self.record is None else self.record.error
        said = [error, self.measures.verdict if self.measures else "", *self.faults]
        return f"<Result {self.task.result}: {'; '.join([self.state, *filter(None, said)])}>"


@dataclass(frozen=True)
class Run:
    """What a run came to: each result, in the order of the plan.

    ``left`` are files of results that the plan does not name any more.

    >>> import fairswap, tempfile
    >>> figure, motion = fairswap.demo_file("pip.glb"), fairswap.demo_motion("idle")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     _ = fairswap.save(f"{folder}/idle.bvh", motion.figure, motion.clips)
    ...     text = f'fairswap = "plan/1"\\nsources = ["idle.bvh"]\\nfigures = ["{figure}"]'
    ...     fairswap.run_plan(fairswap.Plan.from_text(text, folder), f"{folder}/results")
    <Run: 1 results, 1 made now, 0 failed>
    """

    plan: Plan
    folder: Path
    results: tuple[Result, ...]
    missing: tuple[Missing, ...]
    skipped: int = 0
    left: tuple[str, ...] = ()
    peak_mb: float = 0.0

    @property
    def ok(self) -> bool:
        """Whether everything that the plan names is there, and nothing counts as failure."""
        return not self.missing and all(result.ok for result in self.results)

    @property
    def made(self) -> int:
        """How many results this run made."""
        return sum(bool(result.why) and result.state == "done" for result in self.results)

    @property
    def table(self) -> pandas.DataFrame:
        """A row for each result, what needs eyes first at the top."""
        from fairswap.plans.reporting import table_of

        return table_of(self)

    def _repr_html_(self) -> str:
        return str(self.table.to_html(max_rows=40))

    def __repr__(self) -> str:
        failed = sum(not result.ok for result in self.results) + len(self.missing)
        return f"<Run: {len(self.results)} results, {self.made} made now, {failed} failed>"


def faults_of(record: Record, failure: FailureWords) -> tuple[str, ...]:
    """What counts as failure in a result, in words."""
    measures = record.measures
    if measures is None:
        return ()
    found = []
    if measures.likeness < failure.below:
        found.append(f"{measures.likeness:.0f} of 100, {failure.below:g} are wanted")
    if measures.fits is False and failure.not_fitting:
        found.append(f"does not fit its platform: {', '.join(measures.broken_rules[:3])}")
    found += [row.message for row in record.findings if row.code in failure.findings]
    return tuple(found)
