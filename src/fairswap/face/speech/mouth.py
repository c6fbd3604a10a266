"""Phones become mouth shapes over time, in face units.

Phones blend into each other (co-articulation: each mouth shape rises and falls over its neighbours, after Cohen and
Massaro 1993); where lips must close – m, b, p – or the lower lip must meet the teeth – f, v – nothing may keep them
open.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from fairswap.face.speech.phones import Phone
from fairswap.face.speech.recording import Recording
from fairswap.face.units import INDEX, UNITS, spread, vector
from fairswap.model.arrays import Floats

# Lips (or lip and teeth) that must meet, and the units that would hold them open.
_CLOSED = ("viseme_pbm", "viseme_fv")
_OPENING = (
    "lips_part",
    "jaw_drop",
    "upper_lip_raiser",
    "lower_lip_depressor",
    "lip_funneler",
    "tongue_show",
    "lip_stretcher",
)
_BLEND_S = 0.055
# How far the jaw of a whisper goes, and how loud a shout counts.
_JAW_LEAST, _LOUDEST = 0.45, 1.4


def units_from_phones(
    phones: list[Phone], rate: Fraction, strength: float = 1.0, recording: Recording | None = None
) -> Floats:
    """The mouth over time ``(units, frames)``, from 0 s to a little after the last phone; with a recording the jaw goes
    as far as that is loud."""
    frames = round((phones[-1].stop_s + 2 * _BLEND_S) * float(rate)) + 1
    time = np.arange(frames) / float(rate)
    spoken = [phone for phone in phones if phone.viseme]
    if not spoken:
        return np.zeros((len(UNITS), frames))
    # Each phone rises before it begins and falls after it ends; where several are felt they share the mouth.
    visemes = sorted({phone.viseme for phone in spoken})
    felt = np.zeros((len(visemes), frames))
    for phone in spoken:
        felt[visemes.index(phone.viseme)] += _felt(time, phone.start_s, phone.stop_s)
    silent = np.zeros(frames)
    for phone in phones:
        if not phone.viseme:
            silent += _felt(time, phone.start_s, phone.stop_s)
    quiet = np.maximum(silent, np.maximum(0.0, 1.0 - felt.sum(axis=0)))
    shares = felt / np.maximum(felt.sum(axis=0) + quiet, 1e-9)
    directions = np.stack([vector({viseme: strength}) for viseme in visemes], axis=1)
    out = directions @ shares
    if recording is not None:
        out[INDEX["jaw_drop"]] *= _JAW_LEAST + (1.0 - _JAW_LEAST) * np.minimum(recording.loudness(time), _LOUDEST)
    for phone in spoken:
        if phone.viseme in _CLOSED:
            mouth = directions[:, visemes.index(phone.viseme)]
            # In the middle of a closure the lips are where it wants them, whatever the neighbours say.
            hold = _closed(time, phone.start_s, phone.stop_s, float(rate))
            for unit in _OPENING:
                for own in spread(unit) or {}:
                    row = INDEX[own]
                    out[row] = out[row] * (1.0 - hold) + mouth[row] * hold
            for row in np.flatnonzero(mouth).tolist():
                out[row] = np.maximum(out[row], mouth[row] * hold)
    return np.clip(out, 0.0, 1.0)


def _felt(time: Floats, start: float, stop: float) -> Floats:
    """How much a phone is felt: 1 in its middle, falling off as an exponential beyond its ends."""
    middle, half = 0.5 * (start + stop), 0.5 * (stop - start)
    beyond = np.maximum(np.abs(time - middle) - 0.5 * half, 0.0)
    return np.asarray(np.exp(-((beyond / (0.5 * half + 0.5 * _BLEND_S)) ** 2)))


def _closed(time: Floats, start: float, stop: float, rate: float) -> Floats:
    """1 over the middle of a closure, at least on one frame, and eased on both sides."""
    middle = round(0.5 * (start + stop) * rate) / rate
    half = max(0.25 * (stop - start), 0.51 / rate)
    fraction = np.clip(1.0 - (np.abs(time - middle) - half) / _BLEND_S, 0.0, 1.0)
    return np.asarray(fraction * fraction * (3.0 - 2.0 * fraction))
