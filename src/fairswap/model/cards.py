"""Small tables with which values show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from html import escape


def html_card(kind: str, name: str, facts: Mapping[str, object] | Iterable[tuple[str, object]]) -> str:
    """What a value is, what it is called, and a row for each fact."""
    pairs = facts.items() if isinstance(facts, Mapping) else facts
    rows = "".join(f"<tr><th>{escape(key)}</th><td>{escape(str(value))}</td></tr>" for key, value in pairs)
    return f"<table><caption>{escape(kind)} <b>{escape(name)}</b></caption>{rows}</table>"


def html_table(title: str, heads: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table with a title, a head for each column and a row for each thing."""
    top = "".join(f"<th>{escape(head)}</th>" for head in heads)
    body = "".join("<tr>" + "".join(f"<td>{escape(str(cell))}</td>" for cell in row) + "</tr>" for row in rows)
    return f"<table><caption><b>{escape(title)}</b></caption><tr>{top}</tr>{body}</table>"
