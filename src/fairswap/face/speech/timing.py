"""When each phone of a text is spoken, by stated rules (after Klatt 1979, simplified).

Each sort of sound has a usual length; a vowel is shorter in a word of several, and the last syllable before a stop is
drawn out. Commas are short stops, full stops long ones.
"""

from __future__ import annotations

from collections.abc import Sequence

from fairswap.face.speech.phones import Phone, is_vowel, viseme_of
from fairswap.face.speech.words import Word

# Seconds, by viseme; everything else as long as a stop.
_VOWEL_S = 0.100
_LENGTHS_S = {
    "viseme_pbm": 0.075, "viseme_fv": 0.085, "viseme_th": 0.065, "viseme_td": 0.055, "viseme_kg": 0.065,
    "viseme_ch": 0.095, "viseme_sz": 0.090, "viseme_nl": 0.060, "viseme_r": 0.065,
}  # fmt: skip
_LATER_VOWELS, _BEFORE_A_STOP = 0.75, 1.4
_STOPS_S = {"": 0.0, ",": 0.22, ".": 0.45}
BEGINNING_S = 0.15


def phones_in_time(words: Sequence[Word], pace: float = 1.0) -> list[Phone]:
    """The phones of words one after the other; ``pace`` 2 speaks twice as fast."""
    now, out = BEGINNING_S, []
    for number, word in enumerate(words):
        sounds = [Phone(name, viseme_of(name), 0.0, 0.0) for name in word.phones]
        vowels = [i for i, sound in enumerate(sounds) if is_vowel(sound)]
        ends = bool(word.stop) or number == len(words) - 1
        for i, sound in enumerate(sounds):
            lasts = _VOWEL_S if is_vowel(sound) else _LENGTHS_S.get(sound.viseme, _LENGTHS_S["viseme_kg"])
            if i in vowels[1:]:
                lasts *= _LATER_VOWELS
            if ends and vowels and i >= vowels[-1]:
                lasts *= _BEFORE_A_STOP
            out.append(Phone(sound.name, sound.viseme, now, now + lasts / pace))
            now = out[-1].stop_s
        rests = _STOPS_S[word.stop] / pace
        if rests and number < len(words) - 1:
            out.append(Phone("sil", "", now, now + rests))
            now += rests
    return out
