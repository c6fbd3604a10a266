"""Load and save any format we know: the one place where suffixes become readers and writers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from importlib import import_module
from pathlib import Path
from typing import Any, NamedTuple

from fairswap.clip import Clip
from fairswap.document import Document
from fairswap.errors import FairSwapError, UsageError
from fairswap.figure import Figure
from fairswap.space import Space


class _Format(NamedTuple):
    name: str
    module: str


# Adding a format touches its own folder and one row here.
FORMATS = {
    ".glb": _Format("glTF 2.0 (binary)", "fairswap.formats.gltf"),
    ".gltf": _Format("glTF 2.0", "fairswap.formats.gltf"),
    ".vrm": _Format("VRM (glTF 2.0)", "fairswap.formats.gltf"),
    ".bvh": _Format("BVH", "fairswap.formats.bvh"),
    ".csv": _Format("CSV table of motion", "fairswap.formats.csv"),
}


def load(path: str | Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read a figure, a motion or both.

    Parameters
    ----------
    path : path
        A ``.glb``, ``.gltf`` or ``.bvh`` file.
    unit, up : str, optional
        The unit (``m dm cm mm in ft``) and the up axis (``+Y``, ``+Z`` …) of the file, when it does not say and
        what was found from size and posture is wrong.

    Raises
    ------
    InputError
        If the file is not what it says, or damaged.
    UsageError
        If the suffix is unknown.
    """
    path = Path(path)
    read = _function(path, "read")
    try:
        document: Document = read(path, unit=unit, up=up)
    except FairSwapError as error:
        raise error.in_file(path) from None
    return document


def save(
    path: str | Path, figure: Figure, clips: Sequence[Clip] = (), *, space: Space | None = None, force: bool = False
) -> list[str]:
    """Write a figure with clips (``.glb``, ``.gltf``), or one clip alone (``.bvh``).

    The figure's document is carried through: materials, textures and whatever else we do not understand. Clips of
    the figure's own document that were not changed are written as they stood. The file appears whole or not at all.

    Parameters
    ----------
    clips : sequence of Clip
        Clips of ``figure.skeleton``.
    space : Space, optional
        For formats that do not fix it (BVH): up, forward and unit to write in; default is the figure's own.
    force : bool
        Overwrite a file that is there.

    Returns
    -------
    list of str
        The files written: more than one for a ``.gltf`` with its buffer.

    Raises
    ------
    OutputError
        If the file is there already, or cannot be written.
    UsageError
        If the suffix is unknown, or a clip moves another skeleton.
    """
    path = Path(path)
    write = _function(path, "write")
    for clip in clips:
        if clip.skeleton is not figure.skeleton:
            raise UsageError(
                f"clip {clip.name!r} moves another skeleton than figure {figure.name!r}",
                remedy="Carry it over first, with Swap",
            )
    try:
        written: Iterable[Path] = write(path, figure, tuple(clips), space=space, force=force)
    except FairSwapError as error:
        raise error.in_file(path) from None
    return [str(name) for name in written]


def format_of(path: str | Path) -> str:
    """The name of the format that the suffix stands for."""
    return _row(Path(path)).name


def _function(path: Path, name: str) -> Callable[..., Any]:
    function: Callable[..., Any] = getattr(import_module(_row(path).module), name)
    return function


def _row(path: Path) -> _Format:
    row = FORMATS.get(path.suffix.lower())
    if row is None:
        raise UsageError(
            f"the suffix {path.suffix!r} is not one we know", file=path, remedy=f"Known are {', '.join(FORMATS)}"
        )
    return row
