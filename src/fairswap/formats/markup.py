"""XML from strangers: parsed by Python's own Expat, without entities, of bounded depth and size, each line known."""

from __future__ import annotations

from typing import Any
from xml.etree.ElementTree import Element
from xml.parsers import expat

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.formats.limits import DEEPEST_XML, LARGEST_NUMBER, MOST_XML_ELEMENTS
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"
_LONG = 64


class Tag(Element):
    """An element that knows the line it stands in, and is called without its namespace; ``read`` keeps what was made of
    its fields."""

    line: int = 0

    def __init__(self, name: str, attributes: dict[str, str]) -> None:
        super().__init__(name, attributes)
        self.read: dict[str, Floats] = {}

    @property
    def place(self) -> str:
        """Where it stands, for messages: ``line 12, <joint>``."""
        return f"line {self.line}, <{self.tag}>"

    @property
    def words(self) -> list[str]:
        """Its own text, cut at white space."""
        return (self.text or "").split()


def tag_from_xml(content: bytes) -> Tag:
    """The outermost element of an XML file.

    Text between the children of an element counts as its own. Entities are refused, whether they are inside or outside
    of the file: they make gigabytes of a line, or open other files (the standard's own five, as ``&amp;``, are no such
    thing). A document type is allowed, and never opened.

    Raises
    ------
    InputError
        If it is not well formed, holds entities, or is deeper or has more elements than any scene.
    """
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.buffer_size = 1 << 20
    parser.ordered_attributes = True
    outermost: list[Tag] = []
    open_tags: list[Tag] = []
    texts: list[list[str]] = []
    elements = 0

    def start(name: str, attributes: list[str]) -> None:
        nonlocal elements
        elements += 1
        if len(open_tags) >= DEEPEST_XML or elements > MOST_XML_ELEMENTS:
            deep = len(open_tags) >= DEEPEST_XML
            what = f"over {DEEPEST_XML} levels deep" if deep else f"of over {MOST_XML_ELEMENTS} elements"
            raise InputError(f"its XML is {what}", place=f"line {parser.CurrentLineNumber}", remedy=_AGAIN)
        pairs = zip(attributes[::2], attributes[1::2], strict=True)
        tag = Tag(_bare(name), {_bare(key): value for key, value in pairs})
        tag.line = parser.CurrentLineNumber
        if open_tags:
            open_tags[-1].append(tag)
        else:
            outermost.append(tag)
        open_tags.append(tag)
        texts.append([])

    def end(_name: str) -> None:
        open_tags.pop().text = "".join(texts.pop())

    def data(text: str) -> None:
        texts[-1].append(text)

    def no_entity(*_: Any) -> int:
        problem = "it declares entities, which are never opened or put in"
        raise InputError(problem, place=f"line {parser.CurrentLineNumber}", remedy=_AGAIN)

    parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = start, end, data
    parser.EntityDeclHandler = no_entity
    parser.ExternalEntityRefHandler = no_entity
    try:
        parser.Parse(content, True)
    except expat.ExpatError as error:
        reason = expat.errors.messages[error.code]
        raise InputError(f"its XML is damaged ({reason})", place=f"line {error.lineno}", remedy=_AGAIN) from None
    except (UnicodeError, LookupError, ValueError):
        raise InputError("its text is in no encoding that XML knows", remedy=_AGAIN + " as UTF-8") from None
    return outermost[0]


def numbers_of(tag: Tag, text: str | None = None, count: int | None = None) -> Floats:
    """The numbers in an element (or in ``text``, one of its attributes), commas counting as space.

    Raises
    ------
    InputError
        If a word is not a number, a number is beyond all sizes, or there are not ``count``.
    """
    words = ((tag.text or "") if text is None else text).replace(",", " ").split()
    try:
        values = _long_row(words) if len(words) > _LONG else np.array(words, dtype=np.float64)
    except ValueError as error:
        problem = f"{str(error).rpartition(': ')[2][:40]} is not a number"
        raise InputError(problem, place=tag.place, remedy=_AGAIN) from None
    if len(values) and not np.abs(values).max() <= LARGEST_NUMBER:  # NaN is not, either
        raise InputError("a number is not finite, or beyond all sizes", place=tag.place, remedy=_AGAIN)
    if count is not None and len(values) != count:
        raise InputError(f"it has {len(values)} numbers, {count} are needed", place=tag.place, remedy=_AGAIN)
    return values


def _long_row(words: list[str]) -> Floats:
    """Many numbers at once: by a compiled decoder, if they are written as JSON has them."""
    try:
        return np.array(msgspec.json.decode(f"[{','.join(words)}]", type=list[float]), dtype=np.float64)
    except msgspec.MsgspecError:
        return np.array(words, dtype=np.float64)


def integers_of(tag: Tag, text: str | None = None) -> Integers:
    """The whole numbers in an element; errors as of :func:`numbers_of`."""
    values = numbers_of(tag, text)
    whole = values.astype(np.intp)
    if not np.array_equal(whole, values):
        raise InputError("a number there is not whole", place=tag.place, remedy=_AGAIN)
    return whole


def _bare(name: str) -> str:
    return name.rpartition("}")[2].rpartition(":")[2]
