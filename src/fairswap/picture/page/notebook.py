"""In a notebook, figures, clips and results display the player in their cell, below the facts they show."""

from __future__ import annotations

from typing import Any

from fairswap.errors import FairSwapError

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
