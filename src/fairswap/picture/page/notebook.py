"""In a notebook, figures, clips and results play in their cell, below the facts they show; long work has a bar."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from html import escape
from importlib import import_module
from typing import Any

from fairswap.errors import FairSwapError
from fairswap.model.progress import Step, show_progress_with

# By their homes as text: nothing is loaded before it is shown.
_SHOWN = {
    "fairswap.model.document": "Document",
    "fairswap.model.figure": "Figure",
    "fairswap.model.clip": "Clip",
    "fairswap.measure.comparison": "Comparison",
    "fairswap.jobs.conversion": "Conversions",
}


def show_in_notebooks(shell: Any) -> None:
    """Teach a notebook's shell (IPython's) to display ours."""
    formatter = shell.display_formatter.formatters["text/html"]
    for module, name in _SHOWN.items():
        formatter.for_type_by_name(module, name, displayed)
    show_progress_with(_bar)


@contextmanager
def _bar(total: int, what: str) -> Iterator[Step]:
    """A bar in the cell that long work was begun in; it goes when the work is done."""
    shell: Any = import_module("IPython.display")

    def drawn(done: int, name: str) -> Any:
        return shell.HTML(f"<progress max={total} value={done}></progress> {what} {done} of {total} {escape(name)}")

    handle, done = shell.display(drawn(0, ""), display_id=True), 0

    def step(name: str) -> None:
        nonlocal done
        done += 1
        if handle is not None:  # there is none outside of a cell
            handle.update(drawn(done, name))

    try:
        yield step
    finally:
        if handle is not None:
            handle.update(shell.HTML(""))


def displayed(value: Any) -> str | None:
    """The HTML of one of our values: its facts, and the player where there is one; None leaves it to its text."""
    from fairswap.model.clip import Clip
    from fairswap.model.figure import Figure
    from fairswap.picture.page.scene import Shown
    from fairswap.picture.page.viewing import view

    facts = value._repr_html_() if hasattr(value, "_repr_html_") else ""
    try:
        what = Shown(value.name, Figure(value.name, value.skeleton), (value,)) if isinstance(value, Clip) else value
        return facts + view(what)._repr_html_()
    except FairSwapError:  # without the package that draws, or with nothing to see, the facts are all there is
        return facts or None
