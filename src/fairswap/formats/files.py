"""Load and save any format we know: the one place where suffixes become readers and writers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from importlib import import_module
from pathlib import Path
from typing import BinaryIO, NamedTuple

from fairswap.errors import FairSwapError, Finding, UsageError
from fairswap.formats.outputs import Outputs, same_file
from fairswap.formats.reckoned import as_reckoned
from fairswap.formats.storage import Chunk, read_bytes, write_atomically
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.space import Space
from fairswap.model.stand_ins import bent, own_parts, told_by_bones


class _Format(NamedTuple):
    name: str
    module: str
    beside: tuple[str, ...] = ()  # suffixes of files that are written beside the one named
    holds: str = ""  # words of HOLDINGS


# What a format may hold, in one word each, and what that word means.
HOLDINGS = {
    "bones": "skeleton", "mesh": "meshes", "skin": "skin", "morphs": "morphs, face tracks",
    "looks": "materials, pictures",
    "colours": "vertex colours", "clip": "clips", "clips": "several clips", "space": "other axes and units",
    "boxes": "bone boxes", "all": "all else of its document",
}  # fmt: skip
_SCENE = "bones mesh skin morphs looks clip clips"
# Adding a format touches its own folder and one row here. A module has ``read(content, path, unit, up)``; one that is
# written has ``encode(figure, clips, name, space)``, which gives the files to write by their names, the one named last,
# and ``left_out(figure, clips)``, what it cannot hold; one whose files name others has ``parts_of(path)``; one that
# holds bones alone has ``by_bones_alone(figure)``: whether these have to tell what a mesh would.
FORMATS = {
    ".glb": _Format("glTF 2.0 (binary)", "fairswap.formats.gltf", holds=f"{_SCENE} colours space boxes all"),
    ".gltf": _Format("glTF 2.0", "fairswap.formats.gltf", (".bin",), holds=f"{_SCENE} colours space boxes all"),
    ".vrm": _Format("VRM (glTF 2.0)", "fairswap.formats.vrm.files", holds=f"{_SCENE} colours boxes all"),
    ".vrma": _Format("VRM animation", "fairswap.formats.vrm.motions", holds="bones morphs clip"),
    ".bvh": _Format("BVH", "fairswap.formats.bvh", holds="bones clip space"),
    ".csv": _Format("CSV table of motion", "fairswap.formats.csv", holds="bones clip"),
    ".dae": _Format("COLLADA", "fairswap.formats.collada", holds=f"{_SCENE} colours space"),
    ".zae": _Format("COLLADA (packed)", "fairswap.formats.collada", holds=f"{_SCENE} colours space"),
    ".usda": _Format("USD (text)", "fairswap.formats.usd", holds=f"{_SCENE} colours space"),
    ".usdc": _Format("USD (binary)", "fairswap.formats.usd", holds=f"{_SCENE} colours space"),
    ".usd": _Format("USD", "fairswap.formats.usd", holds=f"{_SCENE} colours space"),
    ".usdz": _Format("USD (packed)", "fairswap.formats.usd", holds=f"{_SCENE} colours space"),
    ".x3d": _Format("X3D with H-Anim", "fairswap.formats.x3d", holds=_SCENE),
    ".obj": _Format("Wavefront OBJ", "fairswap.formats.obj", holds="mesh looks colours"),
    ".ply": _Format("PLY", "fairswap.formats.ply", holds="mesh colours"),
}
# Parts that a file points to while its own are replaced; what a killed run left is in use until the next one.
_BETWEEN = ".fairswap-between"
Encoded = Mapping[str, Iterable[Chunk]]


def load(
    source: str | Path | bytes | BinaryIO, *, format: str | None = None, unit: str | None = None, up: str | None = None,
    figure: str | None = None,
) -> Document:  # fmt: skip
    """Read a figure, a motion or both.

    >>> import fairswap
    >>> document = fairswap.load(fairswap.demo_file("juniper.glb"))
    >>> document.figure.name, len(document.figure.skeleton)
    ('Juniper', 79)

    Parameters
    ----------
    source : path, bytes or binary file
        A file of any format in docs/formats.md (``.glb``, ``.vrm``, ``.dae``, ``.usdz``, ``.x3d``, ``.bvh`` …), or its
        content.
    format : str, optional
        The suffix that says what it is, when the source is no path and has no name: ``".glb"``.
    unit, up : str, optional
        The unit (``m dm cm mm in ft hm``) and the up axis (``+Y``, ``+Z`` …) of the file, when it does not say and
        what was found from size and posture is wrong.
    figure : str, optional
        Which figure counts, by its name, where there are several; only its clips are there then.

    Raises
    ------
    InputError
        If the file is not what it says, or damaged.
    UsageError
        If it is neither a path nor content, the suffix is unknown, or no figure is called so.
    """
    if isinstance(source, str | Path):
        path = Path(source)
        row = _row(Path(f"x{format}") if format else path)
        content = read_bytes(path)
    elif isinstance(source, bytes) or hasattr(source, "read"):
        content = source if isinstance(source, bytes) else source.read()
        name = getattr(source, "name", "")
        path = Path(name if isinstance(name, str) and name else f"input{format or ''}")
        row = _row(Path(f"x{format}") if format else path)
    else:
        kind = type(source).__name__
        remedy = "Give its path, or what load() gave; a result is saved first"
        raise UsageError(f"a file is wanted here, not a value of type {kind}", remedy=remedy)
    read: Callable[..., Document] = import_module(row.module).read
    try:
        document = as_reckoned(read(content, path, unit=unit, up=up))
        return document if figure is None else document.choosing(figure)
    except FairSwapError as error:
        raise error.in_file(path) from None


def save(
    destination: str | Path | BinaryIO,
    figure: Figure | Document,
    clips: Sequence[Clip] = (),
    *,
    format: str | None = None,
    space: Space | None = None,
    force: bool = False,
) -> list[str]:
    """Write a figure with clips (``.glb``, ``.dae``, ``.usdz``, ``.x3d`` …), or one clip alone (``.bvh``, ``.csv``).

    The figure's document is carried through: materials, textures and whatever else we do not understand. Clips of
    the figure's own document that were not changed are written as they stood. The file appears whole or not at all.

    >>> import fairswap, io
    >>> juniper = fairswap.load(fairswap.demo_file("juniper.glb")).figure
    >>> fairswap.save(io.BytesIO(), juniper, format=".glb")
    []

    Parameters
    ----------
    figure : Figure, or Document
        Of a document, its figure with its clips; or with those that are given.
    clips : sequence of Clip
        Clips of ``figure.skeleton``.
    format : str, optional
        The suffix that says what to write, when the destination is no path: ``".glb"``.
    space : Space, optional
        For formats that do not fix it (BVH, COLLADA, USD): up, forward and unit to write in; default is the figure's
        own.
    force : bool
        Overwrite a file that is there.

    Returns
    -------
    list of str
        The files written: more than one for a ``.gltf`` with its buffer, or where pictures lie beside; none for an
        open file.

    Raises
    ------
    OutputError
        If the file is there already, cannot be written, or is what another file that was read consists of.
    UsageError
        If the suffix is unknown, or a clip moves another skeleton.
    """
    if isinstance(figure, Document):
        document, figure = figure, figure.figure
        clips = clips or document.clips_of(figure)
    if isinstance(destination, str | Path):
        path = Path(destination)
        outputs = Outputs(_kept_for(figure, path), force)
        outputs.reserve(*files_of(path))
        return save_to(outputs, path, figure, clips, space=space)
    files = encode(figure, clips, f"output{format or ''}", space=space)
    if len(files) > 1:
        raise UsageError("this format needs several files", remedy="Give a path, or a format that is one file: '.glb'")
    for chunk in next(iter(files.values())):
        destination.write(chunk)
    return []


def save_to(
    outputs: Outputs, path: Path, figure: Figure, clips: Sequence[Clip] = (), *, space: Space | None = None
) -> list[str]:
    """As :func:`save`, to a path that was reserved among other outputs of the same run."""
    try:
        files = encode(figure, clips, path.name, space=space)
        # A part that lies there already, letter by letter, is left alone: it may be another file's as well.
        parts = {
            name: chunks for name, chunks in files.items() if name == path.name or not _lies_there(path, name, chunks)
        }
        outputs.reserve(*(path.with_name(name) for name in parts if not outputs.has(path.with_name(name))))
        outputs.left_out += left_out(figure, clips, path.suffix)
        between = _pair_between(outputs, path, figure, clips, space) if len(parts) > 1 else []
        for name, chunks in parts.items():
            outputs.write(path.with_name(name), chunks)
        for part in between:
            part.unlink(missing_ok=True)
    except FairSwapError as error:
        raise error.in_file(path) from None
    return [str(path.with_name(name)) for name in reversed(list(files))]


def _lies_there(path: Path, name: str, chunks: Iterable[Chunk]) -> bool:
    """Whether a part of ``path`` is beside it already with the same content."""
    target, content = path.with_name(name), list(chunks)
    try:
        if not target.is_file() or target.stat().st_size != sum(map(len, content)):
            return False
        return target.read_bytes() == b"".join(content)
    except OSError:
        return False


def _pair_between(
    outputs: Outputs, path: Path, figure: Figure, clips: Sequence[Clip], space: Space | None
) -> list[Path]:
    """Let ``path`` point to parts of other names while those of its own are replaced; give them.

    Two files cannot be moved into place at once. Between the moves, ``path`` would otherwise stand with the parts of
    another edition: a pair that a kill left so would be lost.
    """
    if not path.exists():
        return []
    *parts, (_, whole) = encode(figure, clips, f"{path.stem}{_BETWEEN}{path.suffix}", space=space).items()
    if not all(path.with_name(name.replace(_BETWEEN, "", 1)).exists() for name, _ in parts):
        return []
    names = [path.with_name(name) for name, _ in parts]
    try:
        for name, (_, chunks) in zip(names, parts, strict=True):
            write_atomically(name, chunks, force=True)
        outputs.write(path, whole)
    except BaseException:
        for name in names:
            name.unlink(missing_ok=True)
        raise
    return names


def document_of(what: Document | Figure | str | Path) -> Document:
    """The document itself, one that holds just a figure, or what is in a file."""
    if isinstance(what, Document):
        return what
    if isinstance(what, Figure):
        return Document(what.name, "", what.space, (what,), ())
    return load(what)


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None = None) -> Encoded:
    """The files that :func:`save` would write under ``name``, by their names; the one named is the last.

    Raises
    ------
    UsageError
        If the suffix is unknown, or a clip moves another skeleton.
    """
    row = _row(Path(name), writing=True)
    for clip in clips:
        if clip.skeleton != figure.skeleton:
            raise UsageError(
                f"clip {clip.name!r} moves another skeleton than figure {figure.name!r}", code="moves-other-bones"
            )
    encoder: Callable[..., Encoded] | None = getattr(import_module(row.module), "encode", None)
    if encoder is None:
        raise UsageError(f"{row.name} is read here, not written", file=name, remedy=f"Known are {', '.join(written())}")
    return encoder(*_for_format(row, figure, clips), name, space=space)


def _for_format(row: _Format, figure: Figure, clips: Sequence[Clip]) -> tuple[Figure, Sequence[Clip]]:
    """A figure and its clips as they are written in a format: as its file has the body, or so that bones tell it."""
    by_bones_alone: Callable[[Figure], bool] | None = getattr(import_module(row.module), "by_bones_alone", None)
    told = by_bones_alone is not None and by_bones_alone(figure)
    return own_parts(told_by_bones(figure) if told else figure, clips)


def written() -> list[str]:
    """The suffixes of all formats that are written.

    >>> ".glb" in written(), ".ply" in written()
    (True, False)
    """
    return [suffix for suffix, row in FORMATS.items() if hasattr(import_module(row.module), "encode")]


def table_of_formats() -> str:
    """The formats and what they hold, as a table in Markdown: what docs/formats.md shows.

    >>> print(table_of_formats().splitlines()[2][:58])
    | `.glb` | glTF 2.0 (binary) | read, written | yes | yes |
    """
    lines = ["| file | format | | " + " | ".join(HOLDINGS.values()) + " |", "|---|---|---|" + "---|" * len(HOLDINGS)]
    known = written()
    for suffix, row in FORMATS.items():
        ways = "read, written" if suffix in known else "read"
        marks = ["yes" if word in row.holds.split() else "" for word in HOLDINGS]
        lines.append(f"| `{suffix}` | {row.name} | {ways} | " + " | ".join(marks) + " |")
    return "\n".join(lines)


def left_out(figure: Figure, clips: Sequence[Clip], suffix: str) -> list[Finding]:
    """What of a figure and its clips a format cannot hold: a finding for each kind of thing, none if it holds all.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk")
    >>> print(fairswap.left_out(walk.figure, walk.clips, ".bvh")[0].message)
    BVH cannot hold 2 meshes with their materials
    """
    row = _row(Path(f"x{suffix}"))
    found: Callable[..., list[Finding]] | None = getattr(import_module(row.module), "left_out", None)
    told = [*_lost_parts(figure, clips), *([] if found is None else found(figure, clips))]
    if figure.bone_boxes is not None and "boxes" not in row.holds.split():
        message = f"{row.name} cannot hold the bone boxes, the bounds of each bone's skin"
        told.append(Finding("format-leaves-out", "warning", figure.name, message, "Write .glb, .gltf or .vrm"))
    return told


def _lost_parts(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What clips do with bones that a body of few parts does not have, and no file of it can hold."""
    lost = [
        f"{clip.name!r} bends {', '.join(names[:4])}{' …' if len(names) > 4 else ''}"
        for clip in clips if (names := bent(figure, clip))
    ]  # fmt: skip
    message = f"{'; '.join(lost[:3])}: the body has no such parts, and it is not written"
    remedy = "Turn the parts that it has (upper arms and legs, trunk, head)"
    return [Finding("parts-lost", "warning", figure.name, message, remedy)] if lost else []


def encoded_size(figure: Figure, clips: Sequence[Clip], suffix: str, *, space: Space | None = None) -> int:
    """How many bytes a file (with what is beside it) would have, without writing it."""
    files = encode(figure, clips, f"size{suffix}", space=space)
    return sum(len(chunk) for chunks in files.values() for chunk in chunks)


def files_of(path: Path) -> list[Path]:
    """The files that saving to ``path`` may write."""
    return [path, *(path.with_suffix(suffix) for suffix in _row(path, writing=True).beside)]


def parts_of(path: Path) -> list[Path]:
    """The files that one pulls in when it is read: buffers and images; poses and charts that a file of ours names."""
    if path.suffix.lower() == ".toml":
        from fairswap.formats.own import parts_of as named

        return named(path)
    row = FORMATS.get(path.suffix.lower())
    found: Callable[[Path], list[Path]] | None = getattr(import_module(row.module), "parts_of", None) if row else None
    return [] if found is None else found(path)


def _kept_for(figure: Figure, path: Path) -> list[Path]:
    """What the figure's own file consists of beside itself: to be kept, unless it is that file that is written anew."""
    container = getattr(figure.source, "container", None)
    if container is None or not container.files or same_file(Path(container.files[0]), path):
        return []
    return [Path(name) for name in container.files[1:]]


def _row(path: Path, *, writing: bool = False) -> _Format:
    row = FORMATS.get(path.suffix.lower())
    if row is None and not writing and path.is_dir():
        raise UsageError("it is a folder", file=path, remedy="Name a file in it")
    if row is None:
        known = f"Known are {', '.join(written() if writing else FORMATS)}"
        raise UsageError(f"the suffix {path.suffix!r} is not one we know", file=path, remedy=known)
    return row
