"""Of several files or clips, one that cannot be done does not stop the others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from fairswap.errors import FairSwapError
from fairswap.formats.files import load
from fairswap.model.document import Document


@dataclass(frozen=True)
class Failure:
    """A clip (or a whole file, then ``clip`` is empty) that could not be converted, and why."""

    file: str
    clip: str
    error: FairSwapError


@contextmanager
def going_on(failures: list[Failure] | None, file: str, clip: str) -> Iterator[None]:
    """Put an error on the list, where there is one, and go on."""
    try:
        yield
    except FairSwapError as error:
        if failures is None:
            raise
        failures.append(Failure(file, clip, error))


def none_done(failures: Sequence[Failure]) -> FairSwapError:
    """What to raise where all failed, so that nothing is written which looks like a result: the first error, with what
    went wrong with the others if that is something else."""
    first = failures[0]
    error = first.error.in_file(first.file)
    others = [f"{row.clip or row.file}: {row.error.problem}" for row in failures if row.error.problem != error.problem]
    if len(failures) > 1:
        others = [f"and of {len(others)} for another reason", *others[:2]] if others else []
        error.problem = "; ".join(
            [f"none of {len(failures)} motions could be carried over: {error.problem}", *others]
        )  # fmt: skip
    return error


def read_all(motions: Sequence[str | Path | Document], failures: list[Failure]) -> list[Document]:
    """The motions that can be read; of several, one that cannot does not stop the others."""
    documents = []
    for given in motions:
        if isinstance(given, Document):
            documents.append(given)
            continue
        with going_on(failures if len(motions) > 1 else None, str(given), ""):
            documents.append(load(given))
    return documents
