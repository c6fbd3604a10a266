"""Files beside a document that it names: only those in its own folder are ever opened."""

from __future__ import annotations

from pathlib import Path


def file_inside(folder: Path, name: str) -> Path | None:
    """A file of the folder by its name; None if it is not there, or lies elsewhere."""
    try:
        target = folder / name
        there = bool(name) and target.is_file() and target.resolve().is_relative_to(folder.resolve())
    except (OSError, ValueError, RuntimeError):  # too long, with a null character, links in a circle
        return None
    return target if there else None
