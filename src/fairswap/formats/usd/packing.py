"""The stage of a file: opened by the official library, from a folder of its own that holds only what may be opened."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
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
    from pxr import Sdf, Tf, Usd

    with tempfile.TemporaryDirectory(prefix="fairswap-usd-") as name:
        folder, beside = Path(name).resolve(), list[str]()
        if content[:4] == _ZIP:
            main = _laid_out(parts_from_archive(content), folder)
            source = folder
        else:
            suffix = path.suffix.lower() if path.suffix.lower() in _LAYERS else ".usd"
            main = folder / f"figure{suffix}"
            main.write_bytes(content)
            source = path.parent
        try:
            waiting, seen = [main], {main}
            while waiting:
                layer_path = waiting.pop()
                layer = Sdf.Layer.FindOrOpen(str(layer_path))
                if layer is None:
                    raise InputError("it is no USD that can be read, or is cut", remedy=_AGAIN)
                for asset in layer.GetCompositionAssetDependencies():
                    target = _brought(asset, layer_path, folder, source, beside)
                    if target is not None and target not in seen:
                        seen.add(target)
                        waiting.append(target)
                if len(seen) > _MOST_LAYERS:
                    raise InputError(f"it is put together of over {_MOST_LAYERS} layers", remedy=_AGAIN + " flattened")
            stage = Usd.Stage.Open(str(main))
        except Tf.ErrorException as error:
            problem = f"it is no USD that can be read ({_first_reason(error)})"
            raise InputError(problem, remedy=_AGAIN) from None
        if stage is None:
            raise InputError("it is no USD that can be read", remedy=_AGAIN)
        yield stage, folder if content[:4] == _ZIP else source, beside


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
    text = " ".join(str(error).split())
    return text.partition(" -- ")[2][:120] or text[:120]
