"""Results that belong to a value and go with it: nothing is kept alive for being remembered."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import TypeVar
from weakref import WeakKeyDictionary

Key = TypeVar("Key")
Result = TypeVar("Result")


def kept_with_its_argument(function: Callable[[Key], Result]) -> Callable[[Key], Result]:
    """Work a result out once for each argument, as long as that lives; the result must not hold the argument."""
    results: WeakKeyDictionary[Key, Result] = WeakKeyDictionary()

    @wraps(function)
    def remembered(argument: Key) -> Result:
        if argument not in results:
            results[argument] = function(argument)
        return results[argument]

    return remembered
