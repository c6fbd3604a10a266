"""Where in a recording each phone of a text is: by a general speech recogniser that brings its model.

PocketSphinx (an optional extra, ``fairswap[speech]``) knows English. Words of other languages are given to it by the
English phones nearest to theirs.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.face.speech.phones import Phone, unmarked, viseme_of
from fairswap.face.speech.recording import Recording
from fairswap.face.speech.words import Word
from fairswap.model.arrays import Floats

_FRAME_S = 0.01
# Put before and after: a voice that begins at once is heard too late.
_QUIET_S = 0.25
# The English phone nearest to one of the IPA, as its viseme says; these are nearer by ear.
_NEAR = {
    "viseme_pbm": "B", "viseme_fv": "F", "viseme_th": "DH", "viseme_td": "T", "viseme_kg": "K", "viseme_ch": "SH",
    "viseme_sz": "S", "viseme_nl": "N", "viseme_r": "R", "viseme_a": "AA", "viseme_e": "EH", "viseme_i": "IY",
    "viseme_o": "AO", "viseme_u": "UW",
}  # fmt: skip
_BY_EAR = {
    "p": "P", "m": "M", "v": "V", "ʋ": "V", "θ": "TH", "d": "D", "g": "G", "ɡ": "G", "ŋ": "NG", "h": "HH", "x": "HH",
    "ç": "HH", "tʃ": "CH", "dʒ": "JH", "ʒ": "ZH", "z": "Z", "l": "L", "ʌ": "AH", "ə": "AH", "aɪ": "AY", "aʊ": "AW",
    "æ": "AE", "eɪ": "EY", "ɪ": "IH", "j": "Y", "oʊ": "OW", "əʊ": "OW", "ɔɪ": "OY", "ʊ": "UH", "w": "W", "ɜ": "ER",
}  # fmt: skip
_ENGLISH = {
    "AA", "AE", "AH", "AO", "AW", "AY", "B", "CH", "D", "DH", "EH", "ER", "EY", "F", "G", "HH",
    "IH", "IY", "JH", "K", "L", "M", "N", "NG", "OW", "OY", "P", "R", "S", "SH", "T", "TH",
    "UH", "UW", "V", "W", "Y", "Z", "ZH",
}  # fmt: skip
# Of a beam that gives up late: slower, but a quiet voice is found, too.
_BEAMS: tuple[dict[str, float], ...] = ({}, {"beam": 1e-120, "wbeam": 1e-80, "pbeam": 1e-120})
# A phone that lasts longer than this was most likely not said there; one of the least that the model knows was squeezed
# in. So many of them, and the words are others.
_LONG_S, _LEAST_S = 0.9, 0.035
_DOUBTFUL, _OTHERS = 0.35, 0.6
# Louder than this where the text has no words.
_LOUD, _LOUD_S = 0.35, 0.25
# If so much of what is loud has no words, they are others.
_WORDLESS = 0.8


def phones_in_recording(
    words: Sequence[Word], recording: Recording, language: str = "en"
) -> tuple[list[Phone], list[Finding]]:
    """The phones of words, each where it is said, with silence between; and what is doubtful about it.

    Raises
    ------
    UsageError
        If the recogniser is not installed.
    ImpossibleError
        If the words are not what is said.
    """
    try:
        import pocketsphinx
    except ImportError:
        remedy = "Install it: pip install 'fairswap[speech]'; or give a table start,end,phone"
        raise UsageError("finding words in sound needs a package that is not installed", remedy=remedy) from None
    quiet = np.zeros(int(_QUIET_S * recording.rate_hz))
    # Digital silence has no loudness at all, which no model of sound knows: a breath of noise, always the same.
    noise = np.random.default_rng(0).normal(0.0, 1e-4, 2 * len(quiet) + len(recording.samples))
    heard = np.concatenate([quiet, 0.6 * recording.samples, quiet]) + noise
    sound = (32767.0 * np.clip(heard, -1.0, 1.0)).astype("<i2").tobytes()
    # Each word as one of its own, so that a word said in two ways is not taken for the other.
    spoken = {f"w{number}": word for number, word in enumerate(words)}
    rows = [f"{name} {' '.join(_english(phone) for phone in word.phones)}\n" for name, word in spoken.items()]
    with tempfile.TemporaryDirectory() as folder:
        dictionary = Path(folder, "words.dict")
        dictionary.write_text("".join(rows), encoding="utf-8")
        for beams in _BEAMS:
            decoder = pocketsphinx.Decoder(lm=None, dict=str(dictionary), loglevel="FATAL", **beams)
            decoder.set_align_text(" ".join(spoken))
            _listen(decoder, sound)
            if decoder.hyp() is not None:
                break
        else:
            raise _not_said()
    decoder.set_alignment()
    _listen(decoder, sound)
    phones, findings = list[Phone](), list[Finding]()
    for entry in decoder.get_alignment():
        word = spoken.get(entry.name)
        given = word.phones if word is not None else None
        for number, part in enumerate(entry):
            start = max(_FRAME_S * part.start - _QUIET_S, 0.0)
            stop = min(_FRAME_S * (part.start + part.duration) - _QUIET_S, recording.duration_s)
            if stop - start > 1e-6:
                name = given[number] if given else "sil"
                phones.append(Phone(name, viseme_of(name), start, stop))
    findings += _doubts(phones, recording)
    if recording.given_rate_hz < recording.rate_hz:
        message = f"the sound has {recording.given_rate_hz} samples a second, too few to tell s, f and l well"
        findings.append(Finding("sound-narrow", "warning", "text", message, "Record with 16,000 or more"))
    if language != "en":
        message = f"found in the sound by the nearest English sounds, as the language is {language!r}"
        findings.append(Finding("text-foreign", "note", "text", message, "Look at it beside the sound"))
    return phones, findings


def _doubts(phones: Sequence[Phone], recording: Recording) -> list[Finding]:
    """Where the words may not be what is said.

    Raises
    ------
    ImpossibleError
        If most of them cannot be.
    """
    spoken = [row for row in phones if row.viseme]
    squeezed = sum(row.stop_s - row.start_s < _LEAST_S for row in spoken) / max(len(spoken), 1)
    loud = {row: _FRAME_S * np.count_nonzero(recording.loudness(_times(row)) > _LOUD) for row in phones}
    wordless = sum(loud[row] for row in phones if not row.viseme) / max(sum(loud.values()), 1e-9)
    if not spoken or squeezed > _OTHERS or wordless > _WORDLESS:
        raise _not_said()
    doubts = []
    if squeezed > _DOUBTFUL:
        doubts.append(f"{squeezed:.0%} of the sounds are squeezed into hardly any time")
    long = [row for row in spoken if row.stop_s - row.start_s > _LONG_S]
    doubts += [f"{row.name} at {row.start_s:.2f} s lasts {row.stop_s - row.start_s:.1f} s" for row in long[:3]]
    doubts += [
        f"there is sound from {row.start_s:.2f} to {row.stop_s:.2f} s, but no word"
        for row in phones if not row.viseme and loud[row] > _LOUD_S
    ]  # fmt: skip
    if not doubts:
        return []
    message = f"the text may not be all that is said: {'; '.join(doubts[:5])}"
    return [Finding("text-doubtful", "warning", "text", message, "Compare the text with the recording")]


def _times(phone: Phone) -> Floats:
    return np.arange(phone.start_s, phone.stop_s, _FRAME_S)


def _not_said() -> ImpossibleError:
    remedy = "Give the words that are said in it, all and in order; or a table start,end,phone"
    return ImpossibleError("the text is not what is said in the recording", code="text-not-said", remedy=remedy)


def _listen(decoder, sound: bytes) -> None:  # type: ignore[no-untyped-def]
    decoder.start_utt()
    decoder.process_raw(sound, full_utt=True)
    decoder.end_utt()


def _english(phone: str) -> str:
    bare = phone.strip("ˈˌ").rstrip("012").upper()
    if bare in _ENGLISH:
        return bare
    plain = unmarked(phone)
    return _BY_EAR.get(phone.rstrip("ː")) or _BY_EAR.get(plain) or _NEAR[viseme_of(phone)]
