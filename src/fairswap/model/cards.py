"""Small tables with which values show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Mapping
from html import escape


def html_card(kind: str, name: str, facts: Mapping[str, object]) -> str:
    """What a value is, what it is called, and a row for each fact."""
    rows = "".join(f"<tr><th>{escape(key)}</th><td>{escape(str(value))}</td></tr>" for key, value in facts.items())
    return f"<table><caption>{escape(kind)} <b>{escape(name)}</b></caption>{rows}</table>"
