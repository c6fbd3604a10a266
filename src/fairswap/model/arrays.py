"""Arrays inside values: of one type, and read-only, so that a value stays what it was when it was made."""

from __future__ import annotations

from dataclasses import fields
from typing import Any, ClassVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairswap.errors import UsageError

Floats = NDArray[np.float64]
Integers = NDArray[np.intp]

# Quaternions that files hold are of unit length but for the rounding of single precision.
_UNIT_ERROR = 1e-4


class Value:
    """The base of frozen data classes that hold arrays: a copy is the value itself, and pickling checks it anew."""

    __dataclass_fields__: ClassVar[dict[str, Any]]

    def __copy__(self) -> Value:
        return self

    def __deepcopy__(self, memo: dict[int, Any]) -> Value:
        return self

    def __reduce__(self) -> tuple[Any, ...]:
        return _made_again, (type(self), {field.name: getattr(self, field.name) for field in fields(self)})

    def freeze(self, name: str, shape: tuple[int | str, ...], *, integers: bool = False) -> None:
        """Make the field ``name`` a read-only array of this shape; words in the shape stand for any size.

        An array that owns its data is made read-only itself, without a copy; a view of what somebody else may still
        write to is copied.

        Raises
        ------
        UsageError
            If the shape differs, or a number is not finite.
        """
        array = _read_only(getattr(self, name), np.intp if integers else np.float64)
        fitting = len(array.shape) == len(shape) and all(
            isinstance(wanted, str) or wanted == found for wanted, found in zip(shape, array.shape, strict=True)
        )
        if not fitting:
            wanted = ", ".join(map(str, shape))
            raise self.wrong(f"{name} has the shape {array.shape}, not ({wanted})")
        # The sum of what is not finite is not finite either; only a sum that overflows needs a closer look.
        if not integers and not np.isfinite(array.sum()) and not np.isfinite(array).all():
            raise self.wrong(f"{name} holds a number that is not finite")
        object.__setattr__(self, name, array)

    def check_unit(self, name: str, axis: int) -> None:
        """Check that the quaternions of a field, their components along ``axis``, are of unit length.

        Raises
        ------
        UsageError
        """
        array = getattr(self, name)
        if not array.size:
            return
        # A few bones at a time where there are frames: of a long clip no second copy is made.
        at_once = max(1_000_000 // (array[0].size or 1), 1) if array.ndim > 2 else len(array)
        for start in range(0, len(array), at_once):
            square = np.square(array[start : start + at_once]).sum(axis=axis)
            if not (abs(square.max() - 1.0) < _UNIT_ERROR and abs(square.min() - 1.0) < _UNIT_ERROR):
                raise self.wrong(f"{name} holds quaternions that are not of unit length")

    def wrong(self, problem: str) -> UsageError:
        """The error that says what is wrong with this value."""
        title = getattr(self, "name", "")
        kind = type(self).__name__.lower()
        what = f"{kind} {title!r}" if title else f"{'these' if kind.endswith('s') else 'this'} {kind}"
        return UsageError(f"{what} cannot be: {problem}")


def _read_only(values: ArrayLike, dtype: type) -> NDArray[Any]:
    array: NDArray[Any] = np.asarray(values, dtype=dtype)
    owner = array
    while isinstance(owner.base, np.ndarray):
        owner = owner.base
    if owner is not array and owner.flags.writeable:
        array = array.copy(order="K")
    array.setflags(write=False)
    return array


def read_only(array: Floats) -> Floats:
    """The array, which nobody may write to any more: for what is worked out once and handed to many."""
    array.setflags(write=False)
    return array


def _made_again(kind: type, values: dict[str, Any]) -> Any:
    return kind(**values)


def bounds_of(rows: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """The least and the most of each column of ``rows (n, k)``.

    Column by column in memory: NumPy takes twenty times as long for a few columns that lie side by side.
    """
    columns = np.ascontiguousarray(rows.T)
    return columns.min(axis=1), columns.max(axis=1)
