"""What a run has done, in a database beside its results: so that the next run does only what changed.

A result takes a few hundred bytes: texts that come back (hashes of figures, options) are kept once.
"""

from __future__ import annotations

import os
import platform
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from fairswap.errors import InputError, OutputError
from fairswap.formats.storage import is_alive
from fairswap.plans.inputs import LEDGER, Content, content_of, file_digest
from fairswap.plans.made import Made, Measures, Told
from fairswap.plans.recipe import ConvertWords
from fairswap.plans.tasks import ClipInfo, Known, Recipe, Task

_KIND = "run/1"
_TICK_NS = 2_000_000_000
_TABLES = """
create table about (name text primary key, value text) without rowid;
create table texts (id integer primary key, text text unique);
create table results (
    result text primary key, state text not null, source blob, clip text, figure int, platform int, options int,
    version int, measures text, findings text, error text, took_s real, worker int, source_path int,
    figure_path int, files blob, at real
) without rowid;
create table seen (path text primary key, size int, mtime int, digest blob) without rowid;
create table read (path text, how int, digest blob, clips text, primary key (path, how)) without rowid;
"""


# Reads the clips of many sources, and gives those that could be read by their number.
Reader = Callable[[Sequence[tuple[Path, ConvertWords]]], Iterator[tuple[int, tuple[ClipInfo, ...]]]]
_WORTH_READING_AHEAD = 8


class WrittenFile(NamedTuple):
    """A file of a result: its hash, and what the system said of it when it was written."""

    name: str
    digest: str
    size: int
    mtime: int


class Record(NamedTuple):
    """What is known of a result: ``done``, ``failed``, ``lost`` (failed by no fault of its own) or ``begun``; and of
    what it was made."""

    result: str
    state: str
    recipe: Recipe
    files: tuple[WrittenFile, ...]
    measures: Measures | None
    findings: tuple[Told, ...]
    error: str
    took_s: float
    worker: str
    source: str
    figure: str


class Ledger(Known):
    """The database of one folder of results; only one run writes to it at a time.

    Raises
    ------
    OutputError
        If it cannot be opened or written, or another run is at work there.
    InputError
        If it is of a newer edition, or damaged.
    """

    def __init__(self, folder: Path, *, write: bool = True) -> None:
        self.path = folder / LEDGER
        self._texts: dict[str, int] = {}
        self.reader: Reader | None = None  # reads many sources at once
        self._mine = f"{platform.node()}:{os.getpid()}"
        there = self.path.exists()
        if not there and not write:
            raise InputError("there are no results of a plan in this folder", file=folder,
                             remedy="Run a plan into it first")  # fmt: skip
        with self._guarded(), ExitStack() as if_refused:
            if not write:
                self.base = sqlite3.connect(f"{self.path.absolute().as_uri()}?mode=ro", uri=True, timeout=10.0)
            else:
                folder.mkdir(parents=True, exist_ok=True)
                self.base = sqlite3.connect(self.path, timeout=10.0, isolation_level=None)
                self.base.execute("pragma journal_mode = wal")
                self.base.execute("pragma synchronous = normal")
                if not self._tables():
                    self.base.executescript(f"begin; {_TABLES} insert into about values ('kind', '{_KIND}'); commit;")
            if_refused.callback(self.base.close)
            kind = self._about("kind")
            if kind != _KIND:
                raise InputError(f"it is of another edition ({kind}) of Fair Swap than this one", file=self.path,
                                 remedy="Use that edition, or another folder")  # fmt: skip
            if write:
                self._take()
            if_refused.pop_all()

    def close(self) -> None:
        """Let the folder go; what the database kept beside itself is gone then."""
        with self._guarded():
            if self._about("running") == self._mine:
                self.base.execute("delete from about where name = 'running'")
            self.base.close()

    def records(self) -> dict[str, Record]:
        """All results that are known, by their names."""
        with self._guarded():
            texts = dict(self.base.execute("select id, text from texts"))
            rows = self.base.execute(
                "select result, state, source, clip, figure, platform, options, version, measures, findings, error, "
                "took_s, worker, source_path, figure_path, files from results"
            )
            return {row[0]: _record(row, texts) for row in rows}

    def begin(self, task: Task, recipe: Recipe, files: Iterable[WrittenFile]) -> None:
        """Note that a result is about to be made: a file of that name that is found later is ours. ``files`` are those
        that it had."""
        with self._transaction():
            self._put(task, "begun", recipe, files=files)

    def finish(self, task: Task, recipe: Recipe, made: Made, files: Iterable[WrittenFile]) -> None:
        """Note what came of it."""
        with self._transaction():
            self._put(task, "lost" if made.lost else "failed" if made.error else "done", recipe, made, files)

    def touch(self, result: str, files: Iterable[WrittenFile]) -> None:
        """Note that files of a result were found with the same bytes and other dates."""
        with self._transaction():
            self.base.execute("update results set files = ? where result = ?", (_packed(files), result))

    def content(self, path: Path) -> Content:
        """The hash of a file with all that it pulls in; of one that was not touched, as it was known."""
        return content_of(path, self._hashed)

    def ahead(self, sources: Sequence[tuple[Path, Content, ConvertWords]]) -> None:
        """Read those that were not known at once, where there are many."""
        new = [row for row in sources if self._known(row[1], _how(row[2])) is None]
        if self.reader is not None and len(new) >= _WORTH_READING_AHEAD:
            for number, found in self.reader([(path, options) for path, _, options in new]):
                self._remember(new[number][1], _how(new[number][2]), msgspec.json.encode(found).decode())

    def clips(self, path: Path, content: Content, options: ConvertWords) -> tuple[ClipInfo, ...]:
        """The clips of a source; of one that was read before, as they were known."""
        how = _how(options)
        known = self._known(content, how)
        if known is None:
            found = super().clips(path, content, options)
            self._remember(content, how, msgspec.json.encode(found).decode())
            return found
        return msgspec.json.decode(known, type=tuple[ClipInfo, ...])

    def figure(self, path: Path, content: Content, options: ConvertWords) -> None:
        """Whether a figure can be read at all."""
        how = f"figure {options.figure}"
        if self._known(content, how) is None:
            super().figure(path, content, options)
            self._remember(content, how, "[]")

    def _hashed(self, path: Path) -> str:
        found = path.stat()
        stamp = found.st_size, found.st_mtime_ns
        with self._guarded():
            row = self.base.execute("select size, mtime, digest from seen where path = ?", (str(path),)).fetchone()
        if row is not None and row[:2] == stamp:
            return str(row[2].hex())
        digest = file_digest(path)
        # A file that was just written may be written again within the same tick of its clock.
        if time.time_ns() - found.st_mtime_ns > _TICK_NS:
            with self._transaction():
                self.base.execute("insert or replace into seen values (?, ?, ?, ?)",
                                  (str(path), *stamp, bytes.fromhex(digest)))  # fmt: skip
        return digest

    def _known(self, content: Content, how: str) -> str | None:
        """What was read of a file, if it is still the same."""
        with self._guarded():
            row = self.base.execute(
                "select clips from read where path = ? and how = ? and digest = ?",
                (content.path, self._text(how), bytes.fromhex(content.digest)),
            ).fetchone()
        return None if row is None else str(row[0])

    def _remember(self, content: Content, how: str, clips: str) -> None:
        with self._transaction():
            row = content.path, self._text(how), bytes.fromhex(content.digest), clips
            self.base.execute("insert or replace into read values (?, ?, ?, ?)", row)

    def _put(
        self, task: Task, state: str, recipe: Recipe, made: Made | None = None, files: Iterable[WrittenFile] = ()
    ) -> None:  # fmt: skip
        encode = msgspec.json.encode
        measures = encode(msgspec.structs.astuple(made.measures)).decode() if made and made.measures else None
        findings = encode([msgspec.structs.astuple(row) for row in made.findings]).decode() if made else None
        self.base.execute(
            f"insert or replace into results values ({', '.join('?' * 17)})",
            (
                task.result, state, bytes.fromhex(recipe.source), recipe.clip, self._text(recipe.figure),
                self._text(recipe.platform), self._text(recipe.options), self._text(recipe.version), measures,
                findings, made.error if made else "", made.took_s if made else 0.0,
                self._text(made.worker if made else ""), self._text(task.source.path), self._text(task.figure.path),
                _packed(files), time.time(),
            ),
        )  # fmt: skip

    def _text(self, text: str) -> int:
        """The number under which a text is kept."""
        if text not in self._texts:
            self.base.execute("insert or ignore into texts (text) values (?)", (text,))
            row = self.base.execute("select id from texts where text = ?", (text,)).fetchone()
            self._texts[text] = int(row[0])
        return self._texts[text]

    def _tables(self) -> bool:
        return bool(self.base.execute("select name from sqlite_master where name = 'about'").fetchone())

    def _about(self, name: str) -> str:
        if not self._tables():
            return "none"
        row = self.base.execute("select value from about where name = ?", (name,)).fetchone()
        return "" if row is None else str(row[0])

    def _take(self) -> None:
        """Make this the only run in the folder; one that was killed does not stand in the way."""
        self.base.execute("begin immediate")  # from here on nobody else can
        host, _, process = self._about("running").rpartition(":")
        if host == platform.node() and process.isdigit() and int(process) != os.getpid() and is_alive(int(process)):
            self.base.execute("rollback")
            raise OutputError("another run is at work in this folder", file=self.path.parent,
                              remedy=f"Wait for it (process {process}), or take another folder")  # fmt: skip
        self.base.execute("insert or replace into about values ('running', ?)", (self._mine,))
        self.base.execute("commit")

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        with self._guarded():
            self.base.execute("begin")
            try:
                yield
                self.base.execute("commit")
            except BaseException:
                self._texts.clear()
                if self.base.in_transaction:
                    self.base.execute("rollback")
                raise

    @contextmanager
    def _guarded(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.OperationalError as error:
            remedy = "Check the room and the rights of its folder"
            raise OutputError(f"it cannot be written ({error})", file=self.path, remedy=remedy) from None
        except sqlite3.DatabaseError as error:
            raise InputError(f"it is damaged ({error})", file=self.path,
                             remedy="Remove it and run again: all is done anew then") from None  # fmt: skip
        except OSError as error:
            remedy = "Check the room and the rights of its folder"
            raise OutputError(f"it cannot be written ({error.strerror})", file=self.path, remedy=remedy) from None


def _how(options: ConvertWords) -> str:
    return f"clips {options.unit} {options.up} {options.source_figure}"


def _packed(files: Iterable[WrittenFile]) -> bytes:
    rows = [(row.name, bytes.fromhex(row.digest), row.size, row.mtime) for row in files]
    return msgspec.msgpack.encode(rows)


def _record(row: tuple[Any, ...], texts: Mapping[int, str]) -> Record:
    (result, state, source, clip, figure, where, options, version, measures, findings, error, took, worker, *of,
     files) = row  # fmt: skip
    recipe = Recipe(source.hex(), clip, texts[figure], texts[where], texts[options], texts[version])
    told = msgspec.json.decode(findings) if findings else []
    written = [WrittenFile(name, digest.hex(), *rest) for name, digest, *rest in msgspec.msgpack.decode(files)]
    return Record(
        result, state, recipe, tuple(written), Measures(*_measured(measures)) if measures else None,
        tuple(Told(*one) for one in told), error, took, texts[worker], *(texts[number] for number in of),
    )  # fmt: skip


def _measured(text: str) -> list[Any]:
    values = msgspec.json.decode(text)
    values[-1] = tuple(values[-1])
    return list(values)
