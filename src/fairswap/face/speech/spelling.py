"""English words by their letters, where no dictionary has them: rough, but a mouth is told by less than an ear."""

from __future__ import annotations

# What letters sound like, in ARPAbet: longer runs first; "^" is the beginning of a word and "$" its end.
_RULES = """
tion SH AH N | sion ZH AH N | ture CH ER | ough AO | eigh EY | igh AY | tch CH | dge JH | sch S K | eau OW | ^kn N |
^wr R | ^ps S | mb$ M | ^wh W | wh W | ch CH | sh SH | th TH | ph F | gh G | ck K | qu K W | ng NG | nk NG K | ce$ S |
ge$ JH | se$ Z | ve$ V | le$ AH L | es$ Z | ed$ D | ss S | zz Z | ll L | tt T | pp P | bb B | mm M | nn N | ff F | rr R |
dd D | gg G | cc K | ee IY | ea IY | oo UW | ou AW | ow OW | oa OW | oi OY | oy OY | ai EY | ay EY | au AO | aw AO | ei EY |
ey IY | ie IY | ue UW | ui UW | ew UW | ar AA R | er ER | ir ER | ur ER | or AO R | ce S EH | ci S IH | cy S IY | ge JH EH |
gi JH IH | ^y Y | y$ IY | e$ | a AE | b B | c K | d D | e EH | f F | g G | h HH | i IH | j JH | k K | l L | m M | n N | o AA |
p P | q K | r R | s S | t T | u AH | v V | w W | x K S | y IH | z Z
"""


def _rules() -> list[tuple[str, list[str]]]:
    rows = [row.split() for row in _RULES.replace("\n", " ").split("|")]
    return sorted(((row[0], row[1:]) for row in rows), key=lambda row: -len(row[0]))


_SORTED = _rules()


def phones_by_letters(word: str) -> list[str]:
    """The phones of an English word, as its letters are mostly spoken; nothing for what has no letters.

    >>> phones_by_letters("brumth")
    ['B', 'R', 'AH', 'M', 'TH']
    """
    rest, out = f"^{word.lower()}$", []
    while rest:
        for letters, phones in _SORTED:
            if rest.startswith(letters):
                out += phones
                rest = rest[len(letters) :]
                break
        else:
            rest = rest[1:]
    return out
