"""What a command may write and say: one object for ``--json``, ``--quiet``, ``--force`` and all files."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import fields, is_dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.errors import FairSwapError, shortened
from fairswap.formats.naming import all_in_unicode, visible, visible_in_json

if TYPE_CHECKING:
    import msgspec

    from fairswap.formats.outputs import Outputs
    from fairswap.model.clip import Clip
    from fairswap.picture.page.scene import Pieces
    from fairswap.picture.page.viewing import Viewed

_DIGITS = 6  # of numbers in reports as data
# How the space of a file was found: said once, by inspect.
_TOLD_BY_INSPECT = {"space-found", "unpacked"}
_LONGEST = 400  # letters of one name or sentence in a report for people


class Output:
    """The report of a command goes out through this, and so do its files.

    All inputs are known when it is made: files that options and arguments name are noted as they are parsed, and what
    they pull in (buffers, images, poses) is looked up. An input is never written to.
    """

    def __init__(self, as_json: bool = False, quiet: bool = False, force: bool = False) -> None:
        self.as_json, self.quiet, self.force = as_json, quiet, force
        self._outputs: Outputs | None = None
        self._shown: Viewed | None = None
        self._pieces: Pieces = {}

    @property
    def files(self) -> Outputs:
        """The files of this run, each reserved before the first is written."""
        if self._outputs is None:
            from fairswap.formats.files import parts_of
            from fairswap.formats.outputs import Outputs

            inputs = _noted("inputs")
            self._outputs = Outputs([*inputs, *(part for path in inputs for part in parts_of(path))], self.force)
            self._outputs.announce(*_noted("view"))
        return self._outputs

    def announce(self, *paths: Path | None) -> None:
        """Say before the work which files it will make: what cannot be written is refused now, not after it."""
        from fairswap.formats.files import FORMATS, files_of

        for path in paths:
            if path is not None:
                self.files.announce(*(files_of(path) if path.suffix.lower() in FORMATS else [path]))

    def write(self, path: Path, content: bytes) -> str:
        """Write a file, whole or not at all; give its name."""
        return self.files.write(path, [content])

    @contextmanager
    def progress(self, total: int, what: str) -> Iterator[Callable[[str], None]]:
        """A progress bar on stderr if that is a terminal and there is more than one thing to do; else nothing."""
        if self.quiet or total < 2 or not sys.stderr.isatty():
            yield lambda _: None
            return
        with click.progressbar(
            length=total, label=what, file=sys.stderr, show_pos=True, item_show_func=lambda name: name or ""
        ) as bar:
            yield lambda name: bar.update(1, visible(name))

    def show(self, what: Viewed) -> None:
        """What ``--view`` shows; else it is the first input beside what was written."""
        self._shown = what

    def show_pieces(self, clip: Clip, pieces: Sequence[tuple[float, float, str]]) -> None:
        """What a clip on ``--view``'s page is made of or was cut into: seconds from and to, and a name."""
        self._pieces = {clip.name: pieces}

    def report(self, report: msgspec.Struct, lines: Callable[[Any], Iterable[str]]) -> None:
        """Write the page that ``--view`` asks for, and print a report to stdout: as data, or as lines for people."""
        report = self._with_losses(report)
        failed = None
        for path in _noted("view")[:1]:
            from fairswap.cli.view import with_page

            try:
                report = with_page(report, self, path, _noted("inputs"), self._shown, self._pieces)
            except FairSwapError as error:  # what was done is told all the same
                failed = error
        self._print(report, lines)
        if failed is not None:
            raise failed

    def _with_losses(self, report: msgspec.Struct) -> msgspec.Struct:
        """The report with what the formats of the written files could not hold among its findings."""
        if self._outputs is None or not self._outputs.left_out or not hasattr(report, "findings"):
            return report
        from msgspec.structs import replace as changed

        from fairswap.cli.reports import finding_rows

        lost = [row for row in finding_rows(self._outputs.left_out) if row not in report.findings]
        return changed(report, findings=(*report.findings, *dict.fromkeys(lost)))

    def _print(self, report: msgspec.Struct, lines: Callable[[Any], Iterable[str]]) -> None:
        if self.as_json:
            import msgspec

            data = all_in_unicode(_rounded(msgspec.to_builtins(report)))
            text = msgspec.json.format(msgspec.json.encode(data), indent=2).decode()
            click.echo(visible_in_json(text))
        elif not self.quiet:
            for line in _with_findings(_spelled_out(report), lines):
                click.echo(line)

    def failed(self) -> None:
        """End with status 1: done, but a check found problems."""
        raise click.exceptions.Exit(1)


def _with_findings(report: Any, lines: Callable[[Any], Iterable[str]]) -> Iterator[str]:
    """The lines of a report with its findings: warnings below the title, before the numbers that they put in doubt;
    notes at the end."""
    from fairswap.cli.text import finding_lines

    findings = tuple(dict.fromkeys(getattr(report, "findings", ())))
    context = click.get_current_context()
    asked, whole = context.info_name == "inspect", bool(context.params.get("show_all", True))
    warnings = list(finding_lines((row for row in findings if row.severity != "note"), whole))
    body = list(lines(report))
    titles = 1 if body and not body[0].startswith(" ") else 0
    yield from (*body[:titles], *warnings, *body[titles:])
    notes = (row for row in findings if row.severity == "note" and (asked or row.code not in _TOLD_BY_INSPECT))
    yield from finding_lines(notes, whole)


def note(kind: str, path: str | Path) -> None:
    """Note a file that an option or argument names, for this run."""
    context = click.get_current_context(silent=True)
    if context is not None:
        context.find_root().meta.setdefault(f"fairswap.{kind}", []).append(Path(path))


def _noted(kind: str) -> list[Path]:
    context = click.get_current_context(silent=True)
    return list(context.find_root().meta.get(f"fairswap.{kind}", [])) if context is not None else []


def _rounded(data: Any) -> Any:
    if isinstance(data, float):
        return round(data, _DIGITS)
    if isinstance(data, dict):
        return {key: _rounded(value) for key, value in data.items()}
    if isinstance(data, list | tuple):
        return [_rounded(value) for value in data]
    return data


def _spelled_out(value: Any) -> Any:
    """A report in which names from files cannot move the cursor, colour a terminal or fill it."""
    import msgspec

    if isinstance(value, str):
        return shortened(visible(value), _LONGEST)
    if isinstance(value, dict):
        return {_spelled_out(key): _spelled_out(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        parts = [_spelled_out(one) for one in value]
        return type(value)(*parts) if hasattr(value, "_fields") else type(value)(parts)
    if isinstance(value, msgspec.Struct):
        return type(value)(**{name: _spelled_out(getattr(value, name)) for name in value.__struct_fields__})
    if is_dataclass(value) and not isinstance(value, type):
        return replace(value, **{field.name: _spelled_out(getattr(value, field.name)) for field in fields(value)})
    return value
