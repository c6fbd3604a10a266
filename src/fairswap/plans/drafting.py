"""A plan written for what is there, or for what a command was told, with every line explained."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from fairswap.formats.own import new_file
from fairswap.plans.recipe import KIND, ConvertWords, ResultWords

_ABOUT = (
    "A plan: these motions, on those figures, for those platforms. fairswap plan check says what it would do,",
    "fairswap plan run does it, and does only what changed when it is run again. docs/plans.md explains all of it.",
    "",
)
# What could be said in each table, with what it means.
_CLIP_LINES = (
    ("clean", True, "mend spikes and flips of recordings"),
    ("trim", True, "take off what comes before the first motion and after the last"),
    ("speed", 1.1, "play it so many times as fast"),
    ("reverse", True, "play it backward"),
    ("mirror", True, "left for right"),
    ("loop", True, "find the part that repeats, and make it loop"),
    ("rate", 30, "frames per second"),
    ("thin", 1.0, "keep the fewest keys within so many millimetres (after it was carried over)"),
)
_EXCEPT = (
    "What is otherwise for some: clips, files, figures and platforms are names or patterns; a row is for what fits all",
    "that it names. Several rows may fit; later ones count.",
    "[[except]]",
    'clips = ["idle*"]',
    "clip = { loop = true, rate = 24 }",
    'convert = { face = "none", layer = ["chin-up.toml"] }',
    "",
    "[[except]]",
    'files = ["test*"]',
    "skip = true",
)


def drafted(
    sources: Sequence[str | Path], figures: Sequence[str | Path], platforms: Sequence[str] = (), *, folder: Path,
    clips: Sequence[str] = (), convert: ConvertWords | None = None, results: ResultWords | None = None,
) -> str:  # fmt: skip
    """The text of a plan that is kept in ``folder``; names are as seen from there."""
    import tomlkit

    document = new_file(KIND, _ABOUT)

    def add(holder: Any, name: str, value: Any, comment: str) -> None:
        holder.add(tomlkit.comment(comment))
        holder.add(name, _listed(value) if isinstance(value, list) else value)

    add(document, "sources", [_seen_from(folder, name) for name in sources],
        "Whose motions: files, folders (all in them), and patterns as motions/*.bvh.")  # fmt: skip
    add(document, "figures", [_seen_from(folder, name) for name in figures],
        "The figures to animate; every clip goes onto each of them.")  # fmt: skip
    if platforms:
        add(document, "platforms", [_platform(folder, name) for name in platforms],
            "Results are made to fit each of these.")  # fmt: skip
    else:
        document.add(tomlkit.comment('platforms = ["fernway"]     to make results fit a platform, or several'))
    if clips:
        add(document, "clips", list(clips), "Only clips of these names, or that fit these patterns.")
    else:
        document.add(tomlkit.comment('clips = ["walk*"]           only clips that are called so, or fit a pattern'))
    said = convert.given() if convert is not None else {}
    for_instance = (
        ("travel", "hips", "hips, root or none"), ("clear", False, "leave limbs that go into the body"),
        ("face", "none", "all (with the body), only, or none"),
    )  # fmt: skip
    _table(document, "convert", "How motions are carried over: the options of fairswap convert, by their names.", said,
           () if said else for_instance)  # fmt: skip
    _table(document, "clip", "What is done with each clip before it is carried over, in this order.", {}, _CLIP_LINES)
    rest = ("to", "t", "the rest pose to set it to: t, a, a:60, or a saved pose")
    _table(document, "pose", "What is done with each figure first.", {}, (rest,))
    shown = results or ResultWords()
    _table(document, "results", "How results are called, and what is drawn of each.", {
        "name": shown.name or ("{platform}/{figure}/{clip}" if platforms else "{figure}/{clip}"),
        "format": shown.format, "pictures": shown.pictures, "pages": shown.pages, "thumbnails": shown.thumbnails,
    }, ())  # fmt: skip
    _table(document, "failure", "What counts as failure.", {"below": 75, "not-fitting": True},
           (("findings", ["height-wrong"], "and findings of these codes"),))  # fmt: skip
    document.add(tomlkit.nl())
    for line in _EXCEPT:
        document.add(tomlkit.comment(line) if line else tomlkit.nl())
    return tomlkit.dumps(document)


def _table(
    document: Any, name: str, about: str, said: Mapping[str, Any], could: Sequence[tuple[str, Any, str]]
) -> None:  # fmt: skip
    """A table with what is said, and behind comment signs what could be."""
    import tomlkit

    document.add(tomlkit.nl())
    table = tomlkit.table()
    table.add(tomlkit.comment(about))
    for key, value in said.items():
        table.add(key, list(value) if isinstance(value, tuple) else value)
    for key, value, meaning in could:
        line = f"{key} = {tomlkit.item(value).as_string()}"
        table.add(tomlkit.comment(f"{line:<27} {meaning}"))
    document.add(name, table)


def _listed(values: Sequence[str]) -> Any:
    import tomlkit

    found = tomlkit.array()
    found.extend(values)
    return found.multiline(len(values) > 2)


def seen_from(folder: Path, value: Any) -> Any:
    """A name as a plan in a folder has it: of a file, from there if it is below, else whole; anything else stays."""
    if not isinstance(value, Path) and not (isinstance(value, str) and Path(value).is_file()):
        return value
    return _seen_from(folder, value)


def _seen_from(folder: Path, name: str | Path) -> str:
    path = Path(os.path.abspath(name))
    try:
        return path.relative_to(folder.absolute()).as_posix() or "."
    except ValueError:
        return path.as_posix()


def _platform(folder: Path, name: str) -> str:
    return _seen_from(folder, name) if Path(name).is_file() else name
