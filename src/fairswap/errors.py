"""What can go wrong, and what is worth telling.

An error stops the work; a :class:`Finding` goes into the report. Both say the same four things: where, what is wrong,
and what to do about it, in words an artist understands.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Literal

Severity = Literal["note", "warning", "problem"]


class FairSwapError(Exception):
    """The root of our errors: which file, where in it, what is wrong, what to do."""

    exit_status = 4

    def __init__(
        self, problem: str, *, file: object = None, place: str | None = None, remedy: str | None = None
    ) -> None:
        super().__init__(problem)
        self.problem = problem
        self.file = None if file is None else str(file)
        self.place = place
        self.remedy = remedy

    def __str__(self) -> str:
        where = ", ".join(part for part in (self.file, self.place) if part)
        said = _sentence(f"{where}: {self.problem}" if where else self.problem)
        return f"{said} {_sentence(self.remedy)}" if self.remedy else said

    def in_file(self, file: object) -> FairSwapError:
        """Name the file, when the place that raised the error could not know it."""
        if self.file is None:
            self.file = str(file)
        return self


class UsageError(FairSwapError):
    """The call itself is wrong: an option that does not fit, a name that is not there."""

    exit_status = 2


class InputError(FairSwapError):
    """A file cannot be read: it is not what it says, or it is damaged."""

    exit_status = 3


class ImpossibleError(FairSwapError):
    """The files are readable, but what was asked cannot be done with them."""

    exit_status = 4


class OutputError(FairSwapError):
    """A result cannot be written where it should go. Nothing was left half written."""

    exit_status = 4


@dataclass(frozen=True)
class Finding:
    """One thing worth telling the user about a file or a result."""

    code: str
    severity: Severity
    place: str
    message: str
    remedy: str = ""

    def as_dict(self) -> dict[str, str]:
        return asdict(self)


def _sentence(text: str) -> str:
    return text if text.endswith((".", "!", "?")) else text + "."
