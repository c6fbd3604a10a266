"""A spoken line with expressions, performed from face units: so that the truth is known for every head.

"Lamps are burning, come and buy! Is it gone? Oh, my …": lit with joy, broken by surprise, ended in sadness.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from fairswap.face.head import Head
from fairswap.face.speech.mouth import units_from_phones
from fairswap.face.speech.phones import Phone, viseme_of
from fairswap.face.transfer import perform_units, still_clip
from fairswap.face.units import UNITS, vector
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.signals import eased

_LINE = """
L .08 AE .13 M .10 P .09 S .11 | AA .09 R .08 | B .08 ER .12 N .07 IH .08 NG .10 | sil .12
K .08 AH .09 M .11 | AH .06 N .06 D .05 | B .09 AY .30 | sil .35
IH .08 Z .09 | IH .07 T .06 | G .08 AO .16 N .14 | sil .40
OW .32 | sil .08 | M .13 AY .34 | sil .30
"""
# Expression, from and to (seconds), how much.
_MOODS = (("joy", 0.2, 2.2, 0.8), ("surprise", 2.3, 3.4, 0.9), ("sadness", 3.5, 5.0, 0.9))
_BLINKS_S = (0.9, 2.25, 3.3, 4.4)
_LOOKS = (("gaze_out_left", "gaze_in_right", 2.5, 3.2, 0.6), ("gaze_down_left", "gaze_down_right", 3.6, 4.8, 0.5))
RATE = Fraction(60)
# What all three say from its words alone.
CALL = "Evening, good people! Who will buy a lamp from me, before the river turns blue?"


def line_as_table() -> str:
    """The line as a table of phones: ``start,end,phone``."""
    rows = [f"{phone.start_s:.3f},{phone.stop_s:.3f},{phone.name}" for phone in _phones()]
    return "\n".join(["start,end,phone", *rows]) + "\n"


def spoken_line(rate: Fraction = RATE) -> tuple[Floats, list[Phone]]:
    """The line in units over time ``(units, frames)``, and its phones."""
    phones = _phones()
    units = units_from_phones(phones, rate, 0.9)
    time = np.arange(units.shape[1]) / float(rate)
    closed = units[UNITS.index("lip_pressor")] / 0.63
    for mood, start, stop, weight in _MOODS:
        felt = weight * _held(time, start, stop, 0.3)
        for unit, fraction in zip(UNITS, vector({mood: 1.0}).tolist(), strict=True):
            # A mood opens no lips that speech has closed.
            calm = 1.0 - np.clip(closed, 0.0, 1.0) if unit in ("jaw_drop", "lips_part") else 1.0
            row = units[UNITS.index(unit)]
            np.maximum(row, fraction * felt * calm, out=row)
    for start in _BLINKS_S:
        for side in ("left", "right"):
            row = units[UNITS.index(f"eye_closure_{side}")]
            np.maximum(row, _held(time, start, start + 0.16, 0.07), out=row)
    for first, second, start, stop, weight in _LOOKS:
        for unit in (first, second):
            row = units[UNITS.index(unit)]
            np.maximum(row, weight * _held(time, start, stop, 0.15), out=row)
    return np.clip(units, 0.0, 1.0), phones


def _phones() -> list[Phone]:
    words = _LINE.replace("|", " ").split()
    phones, now = [], 0.15
    for name, seconds in zip(words[::2], words[1::2], strict=True):
        phones.append(Phone(name, viseme_of(name), now, now + float(seconds)))
        now += float(seconds)
    return phones


def _held(time: Floats, start: float, stop: float, ease_s: float) -> Floats:
    """Rises from ``start``, holds, and is gone at ``stop``."""
    up = eased(np.clip((time - start) / ease_s, 0.0, 1.0))
    return np.asarray(up * (1.0 - eased(np.clip((time - stop + ease_s) / ease_s, 0.0, 1.0))))


def speak(head: Head) -> Clip:
    """The spoken line performed directly by a head."""
    units, _ = spoken_line()
    still = still_clip(head.figure, "spoken line", RATE, units.shape[1])
    return perform_units(head, units, still).clip
