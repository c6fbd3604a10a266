"""The pages of the site that are made from the code: findings, and the names that Python offers."""

from __future__ import annotations

import ast
import inspect
import re
from importlib import import_module
from pathlib import Path

import fairswap
from fairswap.cli.remedies import REMEDIES as ON_THE_COMMAND_LINE
from fairswap.errors import REMEDIES
from fairswap.findings import CAUSES

_TOPICS = ("bones", "pose", "clips", "face", "platform", "picture")


def write(folder: Path) -> None:
    """Write the pages, those alone that have changed."""
    folder.mkdir(exist_ok=True)
    for name, text in {"findings.md": findings(), "api.md": api(), "examples.md": examples()}.items():
        path = folder / name
        if not path.exists() or path.read_text() != text:
            path.write_text(text)


def examples() -> str:
    """The scripts of each station: what each is for in words, and its code."""
    lines = [
        "# Examples",
        "",
        "A short script for each station of the work, in its order. Each runs as it stands, on the demo troupe, and",
        "writes into the folder you are in; put your own files in the place of `demo_file` and `demo_motion`. Longer",
        "ones to play with are the [notebooks](../notebooks/index.md).",
        "",
    ]
    for path in sorted((Path(__file__).parents[1] / "examples").glob("*.py")):
        number, _, name = path.stem.partition("_")
        tree = ast.parse(path.read_text())
        code = "\n".join(path.read_text().splitlines()[tree.body[0].end_lineno or 0 :]).strip()
        lines += [f"## {int(number)}. {name.replace('_', ' ').capitalize()}", "", ast.get_docstring(tree) or "", ""]
        lines += ["```python", code, "```", ""]
    return "\n".join(lines)


def findings() -> str:
    """Every code: why it is told, and what to do, on the command line and in Python."""
    lines = [
        "# Findings",
        "",
        "Every note, warning and error ends with a code in brackets. This page has them all: why it is told, and what",
        "to do. Where no remedy stands here, the message itself says what to do, or nothing needs to be done.",
        "",
    ]
    for topic, codes in CAUSES.items():
        lines += [f"## {topic}", ""]
        for code, cause in codes.items():
            lines += [f"### {code}", "", cause, ""]
            if code in ON_THE_COMMAND_LINE:
                lines += [f"**Command line:** {_filled(ON_THE_COMMAND_LINE[code]).rstrip('.')}.", ""]
            if code in REMEDIES:
                lines += [f"**Python:** {_filled(REMEDIES[code]).rstrip('.')}.", ""]
    return "\n".join(lines)


def _filled(remedy: str) -> str:
    """A remedy with words for what a report fills in."""
    return re.sub(
        r"\{(\w+)(![rs])?\}", lambda found: {"option": "--source-bones"}.get(found[1], found[1].upper()), remedy
    )


def api() -> str:
    """Every public name, from its docstring."""
    lines = ["# Python", "", "```{eval-rst}", ".. automodule:: fairswap", "   :no-members:", "", "```", ""]
    lines += ["## The verbs and values", "", *_entries("fairswap", fairswap.__all__)]
    for topic in _TOPICS:
        module = import_module(f"fairswap.{topic}")
        said = (module.__doc__ or "").strip().splitlines()[0]
        lines += [f"## fairswap.{topic}", "", said, "", *_entries(f"fairswap.{topic}", module.__all__)]
    return "\n".join(lines)


def _entries(module: str, names: list[str]) -> list[str]:
    home, lines = import_module(module), []
    for name in sorted(names, key=str.lower):
        value = getattr(home, name)
        if inspect.ismodule(value):
            continue
        # What is there under a topic as well is told once, where the verbs are.
        if module != "fairswap" and any(getattr(fairswap, one, None) is value for one in fairswap.__all__):
            continue
        kind = "autoclass" if inspect.isclass(value) else "autofunction"
        members = ["   :members:"] if inspect.isclass(value) and not issubclass(value, Exception) else []
        lines += ["```{eval-rst}", f".. {kind}:: {module}.{name}", *members, "```", ""]
    return lines
