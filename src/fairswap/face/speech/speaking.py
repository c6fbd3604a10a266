"""What is spoken, from whatever there is – a table of phones, a text, a recording with its text – as units in time."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, UsageError
from fairswap.face.speech.aligning import phones_in_recording
from fairswap.face.speech.mouth import units_from_phones
from fairswap.face.speech.phones import Phone, read_phones
from fairswap.face.speech.recording import Recording, is_sound, read_recording
from fairswap.face.speech.timing import phones_in_time
from fairswap.face.speech.words import Pronunciation, table_of_words
from fairswap.formats.own import text_of_file
from fairswap.model.arrays import Floats

TEXT_SUFFIX = ".txt"
FASTEST = 4.0


@dataclass(frozen=True)
class SpeechOptions:
    """How something is spoken.

    Attributes
    ----------
    text : str or path, optional
        The words that are said, or a file (.txt) of them.
    language : str
        Of the words, as espeak-ng names it: ``en``, ``de``, ``fr``.
    words : path, optional
        A table ``word, phones``: how some words are said.
    rate : int
        Frames per second.
    strength : float
        How far the mouth goes, 0 to 1.5.
    pace : float
        How fast a text without sound is spoken; 1 is an easy pace.
    blinks, nods : bool
        Whether eyes blink and the head nods a little, as people do who speak.

    >>> SpeechOptions(text="Lamps!", pace=1.2).pace
    1.2

    Raises
    ------
    UsageError
        If a number is out of its range.
    """

    text: str | Path | None = None
    language: str = "en"
    words: str | Path | None = None
    rate: int = 60
    strength: float = 1.0
    pace: float = 1.0
    blinks: bool = False
    nods: bool = False

    def __post_init__(self) -> None:
        for name, least, most in (("rate", 1, 240), ("strength", 0.0, 1.5), ("pace", 0.25, FASTEST)):
            if not least <= getattr(self, name) <= most:
                raise UsageError(f"{name} is {getattr(self, name)}", remedy=f"Give {least:g} to {most:g}")
        if not self.language.replace("-", "").replace("_", "").isalnum():
            raise UsageError(f"{self.language!r} is not a language", remedy="Give one as en, de or fr")


@dataclass(frozen=True, eq=False)
class Speech:
    """Phones with their times, the sound they were found in, and what was doubtful."""

    name: str
    phones: list[Phone]
    recording: Recording | None = None
    findings: list[Finding] = field(default_factory=list)

    def units(self, rate: Fraction, strength: float = 1.0) -> Floats:
        """The mouth in units over time ``(units, frames)``."""
        return units_from_phones(self.phones, rate, strength, self.recording)

    def loudness(self, times_s: Floats) -> Floats:
        """How loud it is; all the same where there is no sound."""
        return self.recording.loudness(times_s) if self.recording is not None else np.ones(len(times_s))


def is_spoken(path: str | Path, options: SpeechOptions) -> bool:
    """Whether a file is text or sound."""
    return is_sound(path) or Path(path).suffix.lower() == TEXT_SUFFIX or options.text is not None


def speech_of(source: str | Path | None, options: SpeechOptions) -> Speech:
    """What is said: by a file of sound with its text, by a text, or by a table of phones.

    Raises
    ------
    UsageError
        If there is sound without a text, or something beside the text that is no sound.
    InputError
        If a file cannot be read.
    """
    if source is not None and options.text is None and not is_spoken(source, options):
        return Speech(Path(source).stem, read_phones(source))
    if source is not None and Path(source).suffix.lower() == TEXT_SUFFIX:
        if options.text is not None:
            raise UsageError("a text was given twice", remedy="Give the file of it, or the words")
        text, sound = text_of_file(source), None
    else:
        if options.text is None:
            remedy = "Say what is said in it with text"
            raise UsageError("a recording alone does not say which words are in it", file=source, remedy=remedy)
        if source is not None and not is_sound(source):
            raise UsageError("a text goes with a recording, or alone", file=source, remedy="Leave one of them out")
        text, sound = _text(options.text), source
    pronunciation = Pronunciation(options.language, {} if options.words is None else table_of_words(options.words))
    words = pronunciation.words(text)
    if sound is None:
        name = Path(source).stem if source is not None else _title(text)
        return Speech(name, phones_in_time(words, options.pace), None, pronunciation.findings)
    recording = read_recording(sound)
    phones, doubts = phones_in_recording(words, recording, options.language)
    return Speech(Path(sound).stem, phones, recording, [*pronunciation.findings, *doubts])


def _text(given: str | Path) -> str:
    return text_of_file(given) if isinstance(given, Path) or given.lower().endswith(TEXT_SUFFIX) else given


def _title(text: str) -> str:
    """The first words of a text, as a name."""
    words = text.split()
    return " ".join(words[:4]).strip(".,;:!?\"'") or "speech"
