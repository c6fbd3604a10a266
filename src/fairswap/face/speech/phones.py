"""Phones: the sounds of speech with their times, and the viseme of each.

They are written in IPA or in ARPAbet (with or without stress numbers), or as visemes of ISO/IEC 14496-2.
"""

from __future__ import annotations

import difflib
import unicodedata
from dataclasses import dataclass
from pathlib import Path

from fairswap.errors import InputError, UsageError
from fairswap.face.units import VISEMES
from fairswap.formats.tables import number_in, table_rows

_ARPABET = {
    "viseme_pbm": "P B M", "viseme_fv": "F V", "viseme_th": "TH DH", "viseme_td": "T D", "viseme_kg": "K G NG HH H",
    "viseme_ch": "CH JH SH ZH", "viseme_sz": "S Z", "viseme_nl": "N L EL EN", "viseme_r": "R ER AXR",
    "viseme_a": "AA AY AW AH AX HHA", "viseme_e": "EH AE EY", "viseme_i": "IY IH Y IX", "viseme_o": "AO OW OY", "viseme_u": "UW UH W UX",
}  # fmt: skip
_IPA = {
    "viseme_pbm": "p b m β ɸ", "viseme_fv": "f v ʋ pf", "viseme_th": "θ ð", "viseme_td": "t d ɾ ʈ ɖ", "viseme_kg": "k g ɡ ŋ h x ç ʔ ɣ χ c ɟ q ɦ ħ ʕ",
    "viseme_ch": "tʃ dʒ ʃ ʒ ɕ ʑ tɕ dʑ ʂ ʐ", "viseme_sz": "s z ts dz", "viseme_nl": "n l ɲ ɫ ɴ ɳ ʎ ɭ", "viseme_r": "r ɹ ʁ ɚ ɝ ɜ ɻ ʀ ɽ",
    "viseme_a": "a ɑ ɐ ɵ ʌ ə aɪ aʊ ɑː aː", "viseme_e": "e ɛ æ eɪ ɛː eː ɤ", "viseme_i": "i ɪ j iː y ɨ ʏ", "viseme_o": "o ɔ oʊ əʊ ɔɪ oː ɔː ɒ œ ø",
    "viseme_u": "u ʊ w uː ɯ ʉ ɥ",
}  # fmt: skip
_SILENCE = {"", "sil", "sp", "pau", "SIL", "SP", "PAU", "_", "-", "#", "viseme_none"}
_VISEME = {
    **{phone: name for name, phones in _ARPABET.items() for phone in phones.split()},
    **{phone: name for name, phones in _IPA.items() for phone in phones.split()},
    **{name: name for name in VISEMES},
}
_VOWELS = frozenset(["viseme_a", "viseme_e", "viseme_i", "viseme_o", "viseme_u"])
_R_VOWELS = frozenset(["ER", "AXR", "ɜ", "ɝ", "ɚ"])
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
    plain = unmarked(bare)
    forms = [bare, bare.rstrip("012"), bare.rstrip("012").upper(), plain]
    if not bare.isascii():  # of diphthongs that nobody listed, the first sound is the longer
        forms += [plain[:2], plain[:1]]
    for form in forms:
        if form in _VISEME:
            return _VISEME[form]
    near = difflib.get_close_matches(bare, _VISEME, 3)
    remedy = f"Near ones: {', '.join(near)}" if near else "Write phones in IPA, in ARPAbet, or as visemes"
    raise UsageError(f"{phone!r} is not a phone we know", remedy=remedy)


def unmarked(phone: str) -> str:
    """A phone in IPA without its marks: length, stress, nasality, breath."""
    letters = unicodedata.normalize("NFD", phone)
    return "".join(letter for letter in letters if unicodedata.category(letter) not in ("Mn", "Lm", "Sk", "Pd"))


def is_vowel(phone: Phone) -> bool:
    """Whether the mouth is open for a sound."""
    return phone.viseme in _VOWELS or unmarked(phone.name).rstrip("012") in _R_VOWELS
