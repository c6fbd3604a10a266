"""The members of the troupe as files that come with the package, and their acts as motions to try things with."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from fairswap.errors import UsageError

if TYPE_CHECKING:
    from fairswap.model.document import Document

_TROUPE = Path(__file__).parents[1] / "data" / "troupe"


def demo_file(name: str) -> Path:
    """The path of a figure that comes with the package: ``juniper.glb``, ``osric.glb`` or ``pip.glb``.

    >>> demo_file("pip.glb").name
    'pip.glb'

    Raises
    ------
    UsageError
        If there is none of that name; those that are there are named.
    """
    path = _TROUPE / name
    if path.parent != _TROUPE or not path.is_file():
        known = ", ".join(sorted(other.name for other in _TROUPE.glob("*.glb")))
        raise UsageError(f"no demo file is called {name!r}", remedy=f"There are {known}")
    return path


def demo_motion(act: str = "walk", by: str = "Juniper") -> Document:
    """A member of the troupe with an act as its clip: a figure and a motion to try everything with.

    The acts are ``walk``, ``turn-and-bow``, ``lamp``, ``clap``, ``leap``, ``idle``, and ``spoken line`` for faces.

    >>> demo_motion("clap").clips[0]
    <Clip 'Clap': 301 frames at 60, 5.00 s, 79 bones>

    Raises
    ------
    UsageError
        If there is no such act or member; those that are there are named.
    """
    from fairswap.demo.acts import perform
    from fairswap.demo.anatomy import BODIES, body_of
    from fairswap.demo.repertoire import ACTS
    from fairswap.formats.files import load

    for given, known, what in ((act, (*ACTS, "spoken line"), "act"), (by, tuple(BODIES), "member of the troupe")):
        if given not in known:
            raise UsageError(f"no {what} is called {given!r}", remedy=f"There are {', '.join(known)}")
    document = load(demo_file(f"{by.lower()}.glb"))
    if act in ACTS:
        return replace(document, clips=(perform(ACTS[act](), body_of(by), document.figure.skeleton),))
    from fairswap.demo.spoken import speak
    from fairswap.face.head import Head

    return replace(document, clips=(speak(Head.of(document)),))
