"""Text becomes phones: by the user's own table, an open dictionary, espeak-ng where it is installed, or the letters."""

from __future__ import annotations

import re
import shutil
import subprocess
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from fairswap.errors import Finding, InputError, UsageError
from fairswap.face.speech.phones import viseme_of
from fairswap.face.speech.spelling import phones_by_letters
from fairswap.formats.tables import table_rows
from fairswap.wording import listed

# What stands between words: a short stop, and a long one.
_SHORT_STOP, _LONG_STOP = ",;:()–—…", ".!?。！？"
_MOST_LETTERS = 20_000
_ESPEAK_SECONDS = 20.0


@dataclass(frozen=True)
class Word:
    """A word, its phones as written by whoever gave them, and the stop after it: ``""``, ``","`` or ``"."``."""

    text: str
    phones: tuple[str, ...]
    stop: str = ""


@dataclass
class Pronunciation:
    """Words of one language turned into phones; ``own`` is the user's table, which goes first.

    ``findings`` tell which words had to be guessed or left out.
    """

    language: str = "en"
    own: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)

    def words(self, text: str) -> list[Word]:
        """The words of a text with their phones.

        Raises
        ------
        UsageError
            If there are none, too many letters, or none of them can be pronounced.
        """
        if len(text) > _MOST_LETTERS:
            problem = f"the text has {len(text)} letters; at most {_MOST_LETTERS} are spoken at once"
            raise UsageError(problem, remedy="Speak it in parts")
        tokens = _tokens(text)
        if not tokens:
            raise UsageError("the text has no words", remedy="Give the words that are spoken")
        known = self._pronounced(dict.fromkeys(_key(word) for word, _ in tokens))
        found = [Word(word, known[_key(word)], stop) for word, stop in tokens]
        silent = list(dict.fromkeys(word.text for word in found if not word.phones))
        if silent:
            message = f"no pronunciation is known for {listed(map(repr, silent), 8)}: left out"
            remedy = "Write it as it is spoken, or give its phones in a table of words"
            self.findings.append(Finding("word-left-out", "warning", "text", message, remedy))
        spoken = [word for word in found if word.phones]
        if not spoken:
            raise UsageError("none of the words can be spoken", remedy="Give their phones in a table of words")
        return spoken

    def _pronounced(self, words: Mapping[str, None]) -> dict[str, tuple[str, ...]]:
        """The phones of each word, from the first that knows it."""
        known = {word: self.own[word] for word in words if word in self.own}
        left = [word for word in words if word not in known]
        if left and self.language == "en":
            known |= _in_dictionary(left)
            left = [word for word in left if word not in known]
        if left and shutil.which("espeak-ng"):
            known |= self._by_espeak(left)
            left = [word for word in left if not known.get(word)]
        if left and self.language == "en":
            guessed = {word: tuple(phones_by_letters(word)) for word in left}
            by_letters = [word for word in left if guessed[word]]
            if by_letters:
                message = f"not in the dictionary, spoken by their letters: {listed(map(repr, by_letters), 8)}"
                remedy = "Install espeak-ng, or give their phones in a table of words, if it looks wrong"
                if not _dictionary_file():
                    remedy = "Install fairswap[speech], which has a dictionary of 130,000 words"
                self.findings.append(Finding("word-guessed", "note", "text", message, remedy))
            known |= guessed
        elif left and not shutil.which("espeak-ng"):
            remedy = "Install espeak-ng, which knows many languages, or give a table of words"
            raise UsageError(f"there is no dictionary for the language {self.language!r}", remedy=remedy)
        return {word: known.get(word, ()) for word in words}

    def _by_espeak(self, words: list[str]) -> dict[str, tuple[str, ...]]:
        options = (f"--{option}" for option in ("ipa", "sep=_", "stdin"))
        command = ["espeak-ng", "-q", "-v", self.language, *options]
        try:
            done = subprocess.run(command, input="\n\n".join(words), capture_output=True, text=True, encoding="utf-8",
                                  timeout=_ESPEAK_SECONDS, check=False)  # fmt: skip
        except (OSError, subprocess.TimeoutExpired):
            return {}
        if done.returncode != 0:
            problem = f"espeak-ng has no language {self.language!r}"
            raise UsageError(problem, remedy="Give one that it lists as a voice: en, de, fr-fr")
        lines = [line for line in done.stdout.splitlines() if line.strip()]
        if len(lines) != len(words):  # it has cut a word in two, or taken two for one: each alone
            return {} if len(words) == 1 else {k: v for word in words for k, v in self._by_espeak([word]).items()}
        return {word: _known_phones(re.split(r"[_\s]+", line)) for word, line in zip(words, lines, strict=True)}


def table_of_words(path: str | Path) -> dict[str, tuple[str, ...]]:
    """A table with the columns ``word`` and ``phones`` (in IPA or ARPAbet, with spaces between them).

    Raises
    ------
    InputError
        If a column is missing, a word is there twice, or a phone is not known.
    """
    header, rows = table_rows(path)
    lower = [name.lower() for name in header]
    if not {"word", "phones"} <= set(lower):
        remedy = "The columns are word, phones: lamp, L AE M P"
        raise InputError("the columns word and phones are missing", file=path, place="line 1", remedy=remedy)
    out: dict[str, tuple[str, ...]] = {}
    for line, row in rows:
        row = row + [""] * (len(header) - len(row))
        word, phones = _key(row[lower.index("word")]), tuple(row[lower.index("phones")].split())
        if not word or not phones:
            raise InputError("a word without phones", file=path, place=f"line {line}", remedy="Fill in what is missing")
        if word in out:
            raise InputError(f"{word!r} is there twice", file=path, place=f"line {line}", remedy="Take one of them out")
        for phone in phones:
            try:
                viseme_of(phone)
            except UsageError as error:
                raise InputError(error.problem, file=path, place=f"line {line}", remedy=error.remedy) from None
        out[word] = phones
    return out


def _tokens(text: str) -> list[tuple[str, str]]:
    """Words, each with the stop that follows it."""
    out: list[tuple[str, str]] = []
    for part in re.findall(r"[\w'’]+(?:-[\w'’]+)*|[^\w\s]", unicodedata.normalize("NFC", text)):
        if any(letter.isalnum() for letter in part):
            out += [(piece, "") for piece in part.split("-") if piece.strip("'’_")]
        elif out and part in _LONG_STOP:
            out[-1] = (out[-1][0], ".")
        elif out and part in _SHORT_STOP and not out[-1][1]:
            out[-1] = (out[-1][0], ",")
    return out


def _key(word: str) -> str:
    return unicodedata.normalize("NFC", word).lower().replace("’", "'").strip("'_ ")


def _known_phones(phones: list[str]) -> tuple[str, ...]:
    """Those that have a viseme: what stands for a stop or a breath has none."""
    out = []
    for phone in phones:
        try:
            if phone and viseme_of(phone):
                out.append(phone.strip("ˈˌ"))
        except UsageError:
            continue
    return tuple(out)


def _dictionary_file() -> Path | None:
    """The open dictionary (CMUdict, ARPAbet) that the extra ``speech`` brings."""
    try:
        from pocketsphinx import get_model_path
    except ImportError:
        return None
    path = Path(get_model_path("en-us/cmudict-en-us.dict"))
    return path if path.is_file() else None


def _in_dictionary(words: list[str]) -> dict[str, tuple[str, ...]]:
    path = _dictionary_file()
    if path is None:
        return {}
    wanted, found = set(words), {}
    for line in path.read_text(encoding="utf-8").splitlines():
        word, _, phones = line.partition(" ")
        if word in wanted:
            found[word] = tuple(phones.split())
    return found
