"""Speech: a table of timed phones or visemes becomes mouth shapes over time, in face units.

Phones blend into each other (co-articulation: each mouth shape rises and falls over its neighbours, after Cohen and
Massaro 1993); where lips must close – m, b, p – or the lower lip must meet the teeth – f, v – nothing may keep them
open. Phones are written in IPA or in ARPAbet (with or without stress numbers), or as visemes of ISO/IEC 14496-2.
"""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.errors import InputError, UsageError
from fairswap.face.units import INDEX, UNITS, VISEMES, spread, vector
from fairswap.formats.tables import number_in, table_rows
from fairswap.model.arrays import Floats

_ARPABET = {
    "viseme_pbm": "P B M", "viseme_fv": "F V", "viseme_th": "TH DH", "viseme_td": "T D", "viseme_kg": "K G NG HH H",
    "viseme_ch": "CH JH SH ZH", "viseme_sz": "S Z", "viseme_nl": "N L EL EN", "viseme_r": "R ER AXR",
    "viseme_a": "AA AY AW AH AX HHA", "viseme_e": "EH AE EY", "viseme_i": "IY IH Y IX", "viseme_o": "AO OW OY", "viseme_u": "UW UH W UX",
}  # fmt: skip
_IPA = {
    "viseme_pbm": "p b m", "viseme_fv": "f v", "viseme_th": "θ ð", "viseme_td": "t d ɾ", "viseme_kg": "k g ɡ ŋ h x ç ʔ",
    "viseme_ch": "tʃ dʒ ʃ ʒ", "viseme_sz": "s z ts", "viseme_nl": "n l ɲ ɫ", "viseme_r": "r ɹ ʁ ɚ ɝ ɜ",
    "viseme_a": "a ɑ ɐ ʌ ə aɪ aʊ ɑː aː", "viseme_e": "e ɛ æ eɪ ɛː eː", "viseme_i": "i ɪ j iː y", "viseme_o": "o ɔ oʊ əʊ ɔɪ oː ɔː ɒ œ ø",
    "viseme_u": "u ʊ w uː",
}  # fmt: skip
_SILENCE = {"", "sil", "sp", "pau", "SIL", "SP", "PAU", "_", "-", "#", "viseme_none"}
_VISEME = {
    **{phone: name for name, phones in _ARPABET.items() for phone in phones.split()},
    **{phone: name for name, phones in _IPA.items() for phone in phones.split()},
    **{name: name for name in VISEMES},
}
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
# An hour at once is enough.
_LONGEST_S = 3600.0


@dataclass(frozen=True)
class Phone:
    """A sound from ``start_s`` to ``stop_s``: its viseme, or nothing for silence."""

    name: str
    viseme: str
    start_s: float
    stop_s: float


def is_speech(path: str | Path) -> bool:
    """Whether a table is one of phones rather than of weights."""
    header, _ = table_rows(path)
    return _column(header, "phone") is not None


def read_phones(path: str | Path) -> list[Phone]:
    """Read a table with the columns ``start``, ``end`` (seconds) and ``phone`` (or ``viseme``).

    Raises
    ------
    InputError
        If a column is missing, a phone is not known, or times go backwards.
    """
    header, rows = table_rows(path)
    columns = {}
    for word in ("start", "end", "phone"):
        found = _column(header, word)
        if found is None:
            remedy = "The columns are start, end (seconds) and phone"
            raise InputError(f"there is no column {word}", file=path, place="line 1", remedy=remedy)
        columns[word] = found
    phones: list[Phone] = []
    for line, row in rows:
        place = f"line {line}"
        if len(row) < len(header):
            row = row + [""] * (len(header) - len(row))
        start, stop = (number_in(row[columns[word]], path, place) for word in ("start", "end"))
        if start < 0 or stop > _LONGEST_S:
            problem = f"a phone from {start:g} to {stop:g} s, where 0 to {_LONGEST_S:g} s are read"
            raise InputError(problem, file=path, place=place, remedy="Mend its times, in seconds from the start")
        if stop <= start:
            raise InputError(
                f"a phone ends at {stop:g} s, before it starts at {start:g} s",
                file=path,
                place=place,
                remedy="Mend its times",
            )
        if phones and start < phones[-1].stop_s - 1e-6:
            remedy = "Sort the rows by time, and let no phone start before the last one ended"
            raise InputError(
                f"times go backwards: {start:g} s after {phones[-1].stop_s:g} s", file=path, place=place, remedy=remedy
            )
        name = row[columns["phone"]]
        try:
            phones.append(Phone(name, viseme_of(name), start, stop))
        except UsageError as error:
            raise InputError(error.problem, file=path, place=place, remedy=error.remedy) from None
    return phones


def units_from_phones(phones: list[Phone], rate: Fraction, strength: float = 1.0) -> Floats:
    """The mouth over time ``(units, frames)``, from 0 s to a little after the last phone."""
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


def _column(header: list[str], word: str) -> int | None:
    other = {
        "phone": ("phone", "phoneme", "viseme"),
        "start": ("start", "start_s", "begin"),
        "end": ("end", "end_s", "stop"),
    }[word]
    return next((i for i, name in enumerate(header) if name.lower() in other), None)


def viseme_of(phone: str) -> str:
    """The viseme of a phone in IPA or ARPAbet; empty for silence.

    Raises
    ------
    UsageError
        If it is not known; with near ones.
    """
    bare = phone.strip().strip("/[]ˈˌ")
    if bare in _SILENCE:
        return ""
    for form in (bare, bare.rstrip("012"), bare.rstrip("012").upper(), bare.rstrip("ː")):
        if form in _VISEME:
            return _VISEME[form]
    near = difflib.get_close_matches(bare, _VISEME, 3)
    remedy = f"Near ones: {', '.join(near)}" if near else "Write phones in IPA, in ARPAbet, or as visemes"
    raise UsageError(f"{phone!r} is no phone we know", remedy=remedy)
