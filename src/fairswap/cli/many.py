"""Commands of one file that also take a folder or a pattern: they are run on each file, several beside each other."""

from __future__ import annotations

import contextlib
import io
from collections.abc import Iterator, Mapping, Sequence
from glob import has_magic
from pathlib import Path
from typing import Any

import click
import msgspec

from fairswap.cli import options
from fairswap.cli.output import Output, note
from fairswap.cli.reports import Report
from fairswap.cli.text import table
from fairswap.wording import counted

_RAW = "fairswap.words"


class ManyRow(Report, frozen=True):
    """What a command came to on one file: its exit status, its report, or why there is none."""

    file: str
    status: int
    report: dict[str, Any] | None
    error: str


class ManyReport(Report, frozen=True):
    """A command done on each of several files."""

    command: str
    files: tuple[ManyRow, ...]


class OverFiles(click.Command):
    """A command whose last argument is a file; given a folder or a pattern it is done on each file there is.

    What it writes goes into folders then: ``-o OUT`` is one, and ``--picture sheets.png`` names pictures in ``sheets``.
    """

    def make_context(
        self, info_name: str | None, args: list[str], parent: click.Context | None = None, **extra: Any
    ) -> click.Context:
        words = list(args)
        context = super().make_context(info_name, args, parent, **extra)
        context.meta[f"{_RAW}.{id(self)}"] = words
        return context

    def invoke(self, ctx: click.Context) -> Any:
        names = [parameter.name for parameter in self.params if isinstance(parameter, click.Argument)]
        path = ctx.params.get(names[-1] or "")
        if not isinstance(path, Path) or not _is_many(path):
            return super().invoke(ctx)
        return self._each(ctx, path, ctx.meta[f"{_RAW}.{id(self)}"])

    def _each(self, ctx: click.Context, path: Path, words: Sequence[str]) -> None:
        from fairswap.plans.inputs import files_meant, root_of
        from fairswap.plans.pool import each_beside

        files, root = files_meant((str(path),), Path()), root_of(path)
        words = _apart(self, words)
        spots = _spots(self, words)
        _refuse_one_file(words, spots)
        chain = ctx.command_path.split()[1:]
        calls = []
        for file in files:
            inside = file.relative_to(root) if file.is_relative_to(root) else Path(file.name)
            calls.append([*chain, *_words_for(words, spots, file, inside), "--json"])
        rows = []
        with Output(quiet=bool(ctx.params.get("quiet"))).progress(len(files), ctx.command_path) as step:
            for file, (status, out, error) in zip(files, each_beside(_one, calls), strict=True):
                rows.append(ManyRow(str(file), status, msgspec.json.decode(out) if out else None, error))
                step(file.name)
        # Options are gathered into objects before the command itself is called: here they are looked up as given.
        output = Output(*(bool(ctx.params.get(name)) for name in ("as_json", "quiet")))
        output.report(ManyReport(" ".join(chain), tuple(rows)), _lines)
        worst = max(row.status for row in rows)
        if worst:
            raise click.exceptions.Exit(worst)


def files_named(paths: Sequence[Path]) -> tuple[Path, ...]:
    """The files that names, folders and patterns mean; each is noted as an input."""
    from fairswap.plans.inputs import files_meant

    # One that is named twice is meant twice: a clip joined to itself.
    found = [path for given in paths for path in files_meant((str(given),), Path())]
    for path in found:
        note("inputs", path)
    return tuple(found)


def _is_many(path: Path) -> bool:
    try:
        return path.is_dir() or (has_magic(str(path)) and not path.exists())
    except (OSError, ValueError):
        return False


def _apart(command: click.Command, words: Sequence[str]) -> list[str]:
    """The words with options and their values apart: ``-o out`` for ``-oout``, ``--out out`` for ``--out=out``."""
    names = {name for option in command.params if isinstance(option, click.Option) for name in option.opts}
    out: list[str] = []
    for word in words:
        name, equals, value = word.partition("=")
        if word[:2] in names and len(word) > 2:
            out += [word[:2], word[2:]]
        elif equals and name in names:
            out += [name, value]
        else:
            out.append(word)
    return out


def _spots(command: click.Command, words: Sequence[str]) -> dict[int, click.Parameter]:
    """Which of the words are the values of which options, and which is the last argument."""
    by_name = {name: option for option in command.params for name in option.opts}
    found: dict[int, click.Parameter] = {}
    arguments: list[int] = []
    at = 0
    while at < len(words):
        option = by_name.get(words[at])
        if isinstance(option, click.Option):
            values = 0 if option.is_flag or option.count else option.nargs
            found |= dict.fromkeys(range(at + 1, at + 1 + values), option)
            at += values
        elif words[at] != "--":
            arguments.append(at)
        at += 1
    found[arguments[-1]] = next(each for each in reversed(command.params) if isinstance(each, click.Argument))
    return found


def _words_for(words: Sequence[str], spots: Mapping[int, click.Parameter], file: Path, inside: Path) -> list[str]:
    """The words of the command for one of the files."""
    out = []
    for at, word in enumerate(words):
        parameter = spots.get(at)
        if isinstance(parameter, click.Argument):
            word = str(file)
        elif parameter is not None and parameter.type is options.OUTPUT:
            given = Path(word)
            # -o says where files of the same names go; what is drawn is called after them.
            word = str(given.with_suffix("") / inside.with_suffix(given.suffix) if given.suffix else given / inside)
        out.append(word)
    return [word for word in out if word not in ("--json", "--quiet")]


def _refuse_one_file(words: Sequence[str], spots: Mapping[int, click.Parameter]) -> None:
    for at, parameter in spots.items():
        if parameter.name == "out" and Path(words[at]).suffix:
            raise click.BadParameter("of several files the result is a folder", param_hint="-o")


def _one(words: list[str]) -> tuple[int, str, str]:
    from fairswap.cli.main import status_of

    out, error = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(error):
        status = status_of(words)
    return status, out.getvalue(), error.getvalue().strip().removeprefix("fairswap: ")


def _lines(report: ManyReport) -> Iterator[str]:
    words = {0: "done", 1: "look at"}
    rows = [(row.file, words.get(row.status, "failed"), _said(row)) for row in report.files]
    yield from table(rows, ("file", report.command, ""))
    failed = sum(row.status > 1 for row in report.files)
    looked = sum(row.status == 1 for row in report.files)
    rest = [f"{count} {word}" for count, word in ((failed, "failed"), (looked, "to look at")) if count]
    yield f"  {counted(len(report.files), 'file')}" + (f", {', '.join(rest)}" if rest else "")


def _said(row: ManyRow) -> str:
    """What is said of a file in a line."""
    if row.report is None:
        return row.error.partition("\n")[0][:90]
    if "verdict" in row.report:
        return str(row.report["verdict"])
    if row.report.get("left"):
        return "left: " + ", ".join(dict.fromkeys(one["rule"] for one in row.report["left"]))
    written = [one if isinstance(one, str) else one["file"] for one in row.report.get("written", ())]
    return ", ".join(written)
