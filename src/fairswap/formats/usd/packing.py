"""The stage of a file: opened by the official library, from a folder of its own that holds only what may be opened."""

from __future__ import annotations

import struct
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath
from typing import Any

from fairswap.errors import ImpossibleError, InputError
from fairswap.formats.archives import parts_from_archive
from fairswap.formats.storage import read_bytes

_AGAIN = "Export the file again"
_LAYERS = (".usd", ".usda", ".usdc")
_ZIP = b"PK\x03\x04"
# Layers of layers: more than any scene has.
_MOST_LAYERS = 512
# Rows of a binary layer's tables: so many, however small it is, and for each byte.
_ROWS, _ROWS_A_BYTE = 1_000_000, 16


def library() -> Any:
    """The official library, or a clear message."""
    try:
        import pxr
    except ImportError:
        raise ImpossibleError(
            "USD files need the official USD library, which is not installed", code="no-usd",
        ) from None  # fmt: skip
    return pxr


@contextmanager
def opened_stage(content: bytes, path: Path) -> Iterator[tuple[Any, Path, list[str]]]:
    """The stage of a file's content, the folder it was laid out in, and the files beside it that were taken along.

    The library opens whatever a layer names. So the file, and the layers beside it that it names, are laid out in a
    folder of their own; one that names anything elsewhere is refused.

    Raises
    ------
    InputError
        If it is no USD, is damaged, or names layers outside of its folder.
    """
    library()
    from pxr import Tf, Usd, UsdUtils

    # What the library has to say of a damaged file goes to it, and not to the terminal.
    quiet = UsdUtils.CoalescingDiagnosticDelegate()
    with tempfile.TemporaryDirectory(prefix="fairswap-usd-") as name:
        folder, beside = Path(name).resolve(), list[str]()
        packed = content[:4] == _ZIP
        try:
            if packed:
                main = _laid_out(parts_from_archive(content), folder)
            else:
                suffix = path.suffix.lower() if path.suffix.lower() in _LAYERS else ".usd"
                main = folder / f"figure{suffix}"
                main.write_bytes(content)
            _bring_layers(main, folder, folder if packed else path.parent, beside)
            stage = Usd.Stage.Open(str(main))
            if stage is None:
                raise InputError("it cannot be read as USD", remedy=_AGAIN)
            yield stage, folder if packed else path.parent, beside
        except (Tf.ErrorException, UnicodeDecodeError) as error:  # values are unpacked only when they are asked for
            problem = f"it cannot be read as USD, or is damaged ({_first_reason(error)})"
            raise InputError(problem, remedy=_AGAIN) from None
        finally:
            with suppress(UnicodeDecodeError):  # what it has to say quotes the file
                quiet.TakeUncoalescedDiagnostics()


def _bring_layers(main: Path, folder: Path, source: Path, beside: list[str]) -> None:
    """Lay all layers out that the first one names, and those that they name."""
    from pxr import Sdf

    waiting, seen = [main], {main}
    while waiting:
        path = waiting.pop()
        _check_counts(path.read_bytes())
        layer = Sdf.Layer.FindOrOpen(str(path))
        if layer is None:
            raise InputError("it cannot be read as USD, or is cut short", remedy=_AGAIN)
        for asset in layer.GetCompositionAssetDependencies():
            target = _brought(asset, path, folder, source, beside)
            if target is not None and target not in seen:
                seen.add(target)
                waiting.append(target)
        if len(seen) > _MOST_LAYERS:
            raise InputError(f"it is put together of over {_MOST_LAYERS} layers", remedy=_AGAIN + " flattened")


def _check_counts(content: bytes) -> None:
    """Refuse a binary layer whose tables say that they are far larger than its bytes can be: the library believes them,
    and takes the memory before it looks (layout: pxr/usd/sdf/crateFile.h)."""
    if content[:8] != b"PXR-USDC" or len(content) < 24:
        return
    most = _ROWS + _ROWS_A_BYTE * len(content)
    (table,) = struct.unpack_from("<q", content, 16)
    if not 0 <= table <= len(content) - 8:
        raise InputError("it is cut: its table of contents is not there", remedy=_AGAIN)
    (sections,) = struct.unpack_from("<Q", content, table)
    if sections > 64 or table + 8 + 32 * sections > len(content):
        raise InputError("its table of contents is damaged", remedy=_AGAIN)
    for at in range(table + 8, table + 8 + 32 * sections, 32):
        start, size = struct.unpack_from("<qq", content, at + 16)
        if start < 0 or size < 0 or start + size > len(content):
            raise InputError("it is cut: a part of it lies beyond its end", remedy=_AGAIN)
        counts = (
            struct.unpack_from("<3Q" if content[at : at + 6] == b"TOKENS" else "<Q", content, start)
            if size >= 24
            else ()
        )
        if any(count > most for count in counts):
            raise InputError(f"a table of it has {max(counts)} rows, far more than its bytes allow", remedy=_AGAIN)


def parts_of(path: Path) -> list[Path]:
    """What a file names is known only once it is composed: nothing here."""
    return []


def _laid_out(parts: dict[str, bytes], folder: Path) -> Path:
    """The parts of a package as files; the first is its root layer (USDZ specification)."""
    main: Path | None = None
    for name, data in parts.items():
        steps = PurePosixPath(name.replace("\\", "/")).parts
        if not steps or ".." in steps or steps[0].startswith("/") or "\0" in name or len(name) > 240:
            raise InputError(f"its part {name[:80]!r} points outside of it", remedy="Pack it again")
        target = folder.joinpath(*steps)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        except OSError:
            raise InputError(
                f"its part {name[:80]!r} has a name that no file can have", remedy="Pack it again"
            ) from None
        if main is None and target.suffix.lower() in _LAYERS:
            main = target
    if main is None:
        raise InputError("the package holds no USD layer", remedy="Pack it again")
    return main


def _brought(asset: str, layer: Path, folder: Path, source: Path, beside: list[str]) -> Path | None:
    """The layer that another names, laid out beside it; None for one that is not there."""
    plain = asset.replace("\\", "/")
    if plain.startswith("/") or ":" in plain or "[" in plain:
        raise InputError(f"it names a layer outside of its folder ({asset[:80]!r}), which is never opened",
                         remedy="Export it flattened, as one file")  # fmt: skip
    target = (layer.parent / plain).resolve()
    if not target.is_relative_to(folder):
        raise InputError(f"it names a layer outside of its folder ({asset[:80]!r}), which is never opened",
                         remedy="Export it flattened, as one file")  # fmt: skip
    if not target.exists() and source != folder:
        original = (source / target.relative_to(folder)).resolve()
        if original.is_file() and original.is_relative_to(source.resolve()):
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(read_bytes(original))
            beside.append(str(source / target.relative_to(folder)))
    return target if target.exists() else None


def _first_reason(error: Exception) -> str:
    """What the library says, shortly: its first sentence, without where in the library it stands."""
    try:
        text = " ".join(str(error).split())
    except UnicodeDecodeError:  # it quotes the file
        return "its text is not UTF-8"
    return text.partition(" -- ")[2][:120] or text[:120]
