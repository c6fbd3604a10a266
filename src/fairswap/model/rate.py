"""Frame rates as exact fractions, from the rounded numbers that files hold."""

from __future__ import annotations

import re
from fractions import Fraction

from fairswap.errors import UsageError

# Of frames per second: beyond any camera, and bounded because memory is.
HIGHEST_RATE = 1000
# Numbers of other forms may take for ever to read: 1e99999999.
_PLAIN_RATE = re.compile(r"\d{1,9}(\.\d{0,12})?(/\d{1,9})?")

# What cameras, screens and motion capture run at; nearest first decides between 30 and 29.97.
_COMMON = [Fraction(n) for n in (8, 10, 12, 15, 16, 20, 24, 25, 30, 48, 50, 60, 72, 75, 90, 100, 120, 144, 150)]
_COMMON += [Fraction(n) for n in (180, 200, 240, 250, 300, 360, 480, 500, 600, 1000)]
_COMMON += [Fraction(n * 1000, 1001) for n in (24, 30, 48, 60, 120, 240)]


def rate_from_text(frame_time: str) -> Fraction:
    """The rate meant by a written frame time, as ``0.0333333`` means 30.

    The digits tell how exact the number is: a common rate within the last digit is taken, else 1 / the number.
    ``frame_time`` must be a positive number in plain or exponent notation.

    Where few digits leave it open, whole rates come first: ``0.0167`` means 60, not 59.94.

    >>> rate_from_text("0.0333333"), rate_from_text("0.033367"), rate_from_text("0.0123")
    (Fraction(30, 1), Fraction(30000, 1001), Fraction(10000, 123))
    >>> rate_from_text("0.0167"), rate_from_text("0.0417"), rate_from_text("0.0334")
    (Fraction(60, 1), Fraction(24, 1), Fraction(30000, 1001))
    """
    seconds = Fraction(frame_time)
    mantissa, _, exponent = frame_time.lower().partition("e")
    decimals = len(mantissa.partition(".")[2]) - int(exponent or 0)
    last_digit = Fraction(1, 10**decimals) if decimals > 0 else Fraction(1)
    near = [rate for rate in _COMMON if abs(rate * seconds - 1) <= Fraction(1, 40)] if decimals > 0 else []
    rounded = [rate for rate in near if abs(1 / rate - seconds) <= last_digit / 2]
    if rounded:
        return min(rounded, key=lambda rate: (rate.denominator, abs(1 / rate - seconds)))
    return _common_rate(seconds, float(min(last_digit / seconds, Fraction(1, 60)))) or 1 / seconds


def rate_from_text_per_second(text: str) -> Fraction:
    """The rate that an artist writes: ``30``, ``29.97`` (which means 30000/1001), ``30000/1001``.

    >>> rate_from_text_per_second("29.97"), rate_from_text_per_second("24")
    (Fraction(30000, 1001), Fraction(24, 1))
    >>> rate_from_text_per_second("29,97")
    Fraction(30000, 1001)

    Raises
    ------
    UsageError
        If it is no rate above zero.
    """
    text = text.strip().replace(",", ".")
    try:
        rate = Fraction(text) if _PLAIN_RATE.fullmatch(text) else Fraction(0)
    except ZeroDivisionError:
        rate = Fraction(0)
    if not 0 < rate <= HIGHEST_RATE:
        remedy = f"Write frames per second, up to {HIGHEST_RATE}: 30, 29.97 or 30000/1001"
        raise UsageError(f"{text[:40]!r} is not a frame rate", remedy=remedy)
    decimals = len(text.partition(".")[2]) if "/" not in text else 0
    if decimals:
        near = min(_COMMON, key=lambda common: abs(common - rate))
        if abs(near - rate) <= Fraction(1, 2 * 10**decimals):
            return near
    return rate


def rate_from_interval(seconds: float, relative_error: float = 2e-4) -> Fraction:
    """The rate meant by a measured interval between frames.

    >>> rate_from_interval(1 / 29.97003)
    Fraction(30000, 1001)
    """
    found = _common_rate(Fraction(seconds), relative_error)
    if found:
        return found
    near = Fraction(1 / seconds).limit_denominator(20)
    return near if near > 0 and abs(float(near) * seconds - 1) < relative_error else Fraction(1 / seconds)


def _common_rate(seconds: Fraction, relative_error: float) -> Fraction | None:
    best = min(_COMMON, key=lambda rate: abs(rate * seconds - 1))
    return best if abs(best * seconds - 1) <= relative_error else None


def text_from_rate(rate: Fraction) -> str:
    """``30``, ``29.97``: as an artist writes it."""
    return f"{float(rate):.2f}".rstrip("0").rstrip(".")
