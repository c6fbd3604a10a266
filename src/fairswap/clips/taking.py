"""What verbs of clips take: clips, and in a sentence what is none."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import ParamSpec, TypeVar

from fairswap.errors import UsageError
from fairswap.model.clip import Clip

Words = ParamSpec("Words")
Result = TypeVar("Result")


def of_clips(verb: Callable[Words, Result]) -> Callable[Words, Result]:
    """A verb whose first argument is a clip, or several: whoever gives it a file or a figure is told what it wants."""

    @wraps(verb)
    def checked(*args: Words.args, **kwargs: Words.kwargs) -> Result:
        first = next(iter((*args, *kwargs.values())), None)
        for each in first if isinstance(first, list | tuple) else [first]:
            if not isinstance(each, Clip):
                problem = f"{verb.__name__} wants a clip, not a value of type {type(each).__name__}"
                raise UsageError(problem, remedy="Give one of fairswap.load(FILE).clips")
        return verb(*args, **kwargs)

    return checked
