"""Good files made bad at random: bytes, the tokens of texts, the values of JSON and of what a glTF buffer holds.

Every way is a function of the content and a source of chance: the same seed gives the same file.
"""

from __future__ import annotations

import copy
import json
import re
import struct
from random import Random

ODD_NUMBERS = [
    "0", "-0.0", "-1", "1e308", "-1e308", "1e-320", "1e999", "nan", "inf", "99999999999999999999", "0x10", "1_000", ".",
    "1e", "--1", "1,5", "9" * 400, "1e99999999", "4294967296",
]  # fmt: skip
ODD_WORDS = [
    "", " ", "\0", "\x1b[31m", "\u202e", "é", "𝄞", "[" * 400, "{" * 400, '"', "'''", '"""', "\\", "#", "..",
    "/etc/passwd", "{0}", "%s", "$x^$", "x" * 5000, "JOINT", "End Site", "MOTION", "}", "{", "null", "true",
    "a.b.c", "*", "\n", "\r",
]  # fmt: skip
ODD_VALUES = [
    -1, 0, 1, 3, 2**31, 2**53, 10**20, 1e308, -1e308, 1e-320, -5.5, None, True, "", "x", "\ud800", "\0", [], {}, [[]],
    [0] * 500, {"a": {}}, 5120, 5126, "SCALAR", "MAT4", "CUBICSPLINE", "scale", "../x", "data:;base64,AAAA",
]  # fmt: skip
_TOKEN = re.compile(r"\"[^\"\n]*\"|[\w.+-]+|\s+|.", re.DOTALL)


def mangled_bytes(content: bytes, chance: Random) -> bytes:
    """Cut off, changed, taken out, doubled, or with bytes put in."""
    data = bytearray(content)
    way, at = chance.randrange(5), chance.randrange(len(content))
    length = chance.randrange(1, 400)
    if way == 0:
        return bytes(data[:at])
    if way == 1:
        for _ in range(chance.randrange(1, 12)):
            data[chance.randrange(min(len(data), 6000))] = chance.randrange(256)
    elif way == 2:
        del data[at : at + length]
    elif way == 3:
        data[at:at] = data[at : at + length]
    else:
        data[at:at] = bytes(chance.randrange(256) for _ in range(length % 20 + 1))
    return bytes(data)


def mangled_text(content: bytes, chance: Random) -> bytes:
    """Tokens exchanged for odd ones, lines taken out, doubled or exchanged."""
    text = content.decode()
    for _ in range(chance.randrange(1, 5)):
        way = chance.randrange(4)
        if way < 2:
            # A stretch of it is enough: tables are long.
            start = chance.randrange(max(len(text) - 4000, 1))
            tokens = _TOKEN.findall(text[start : start + 4000])
            words = [i for i, token in enumerate(tokens) if token.strip()]
            if words:
                tokens[chance.choice(words)] = chance.choice(ODD_NUMBERS if way else ODD_WORDS)
            text = text[:start] + "".join(tokens) + text[start + 4000 :]
            continue
        lines = text.split("\n")
        at, other = chance.randrange(len(lines)), chance.randrange(len(lines))
        if way == 2:
            lines[at], lines[other] = lines[other], lines[at]
        elif chance.random() < 0.5:
            lines.insert(other, lines[at])
        else:
            del lines[at]
        text = "\n".join(lines)
    return text.encode("utf-8", "surrogatepass")


def mangled_json(document: dict, chance: Random) -> None:
    """One value, anywhere in a document, exchanged, taken out, or given twice."""
    place = document
    while isinstance(place, dict | list) and place:
        key = chance.choice(list(place)) if isinstance(place, dict) else chance.randrange(len(place))
        if isinstance(place[key], dict | list) and place[key] and chance.random() < 0.85:
            place = place[key]
            continue
        way = chance.randrange(8)
        if way == 0:
            del place[key]
        elif way == 1 and isinstance(place, list):
            place.append(place[key])
        elif way == 2 and isinstance(place[key], int):
            place[key] += chance.choice([-1, 1, 7, 1000])
        else:
            place[key] = copy.deepcopy(chance.choice(ODD_VALUES))
        return


def mangled_glb(content: bytes, chance: Random) -> bytes:
    """The JSON changed, or numbers in the buffer: not a number, infinite, huge, zero."""
    (length,) = struct.unpack_from("<I", content, 12)
    document, rest = json.loads(content[20 : 20 + length]), bytearray(content[20 + length :])
    if chance.random() < 0.3 and len(rest) > 16:
        for _ in range(chance.randrange(1, 6)):
            at = 8 + 4 * chance.randrange((len(rest) - 8) // 4)
            odd = chance.choice([float("nan"), float("inf"), 1e38, -1e38, 0.0, 1e-40])
            rest[at : at + 4] = struct.pack("<f", odd)
    else:
        for _ in range(chance.randrange(1, 4)):
            mangled_json(document, chance)
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    return struct.pack("<4sIIII", b"glTF", 2, 20 + len(text) + len(rest), len(text), 0x4E4F534A) + text + bytes(rest)


def mangled(content: bytes, chance: Random, kind: str) -> bytes:
    """The content of a file of a ``kind`` (``glb``, ``text`` or ``bytes``), in one of the ways that break it."""
    if chance.random() < 0.3:
        return mangled_bytes(content, chance)
    ways = {"glb": mangled_glb, "text": mangled_text, "bytes": mangled_bytes}
    return ways[kind](content, chance)
