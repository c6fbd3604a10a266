"""A plan taken apart: one task for each clip, on each figure, for each platform, with the name of its result."""

from __future__ import annotations

import hashlib
import json
import os
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

from fairswap import __version__
from fairswap.errors import FairSwapError, InputError, OutputError
from fairswap.formats.files import load
from fairswap.formats.naming import as_one_name, file_stem
from fairswap.formats.patterns import fits_any
from fairswap.formats.saved import user_folder
from fairswap.plans.inputs import Content, content_of, file_digest, files_meant
from fairswap.plans.recipe import ClipWords, ConvertWords, ExceptionWords, Plan, PoseWords
from fairswap.wording import listed

# Options that may name a file.
_FILES = (
    "layer", "source_face", "target_face", "face_from", "source_bones", "source_reference", "target_bones",
    "target_reference", "hands_reference", "meta",
)  # fmt: skip


class ClipInfo(msgspec.Struct, frozen=True):
    """A clip of a source, as far as a plan needs to know it."""

    name: str
    frames: int
    seconds: float
    bones: int


class Recipe(NamedTuple):
    """What a result depends on: contents by their hashes, and all options as JSON."""

    source: str
    clip: str
    figure: str
    platform: str
    options: str
    version: str

    def unlike(self, other: Recipe) -> str:
        """Why a result made by ``other`` is not this one's, in words; nothing if it is."""
        if self.version != other.version:
            return f"made by Fair Swap {other.version}, this is {self.version}"
        if self.source != other.source:
            return "the motion was changed"
        if self.figure != other.figure:
            return "the figure was changed"
        if self.clip != other.clip:
            return "it was another clip"
        if self.platform != other.platform:
            return "the platform was changed"
        if self.options == other.options:
            return ""
        new, old = json.loads(self.options), json.loads(other.options)
        names = [name for name in sorted({*new, *old}) if new.get(name) != old.get(name)]
        return f"changed: {listed(names, 4)}"


class Task(msgspec.Struct, frozen=True):
    """One clip onto one figure for one platform (or none): all that a worker has to know.

    ``result`` is the name of the result in the folder of results, with its suffix. ``clip`` is the name of the clip in
    its file, and ``number`` its place there. ``files`` are the contents of all files that the options name, by the
    names that are in the options.
    """

    result: str
    source: Content
    clip: str
    number: int
    frames: int
    bones: int
    figure: Content
    platform: str
    platform_file: Content | None
    convert: ConvertWords
    steps: ClipWords
    pose: PoseWords
    files: dict[str, Content]
    picture: bool = False
    page: bool = False
    thumbnail: bool = True

    def recipe(self, saved: str = "") -> Recipe:
        """What the result depends on, and nothing else: if this is unchanged, so is the result."""
        platform = f"{Path(self.platform).name} {self.platform_file.digest}" if self.platform_file else self.platform
        options = {
            **{f"convert.{name}": value for name, value in self.convert.given().items()},
            **{f"clip.{name}": value for name, value in self.steps.given().items()},
            **{f"pose.{name}": value for name, value in self.pose.given().items()},
            **{f"the file {name}": content.digest for name, content in sorted(self.files.items())},
            "results.pictures": self.picture, "results.pages": self.page, "results.thumbnails": self.thumbnail,
            "what is kept for families": saved,
        }  # fmt: skip
        text = msgspec.json.encode(options, order="sorted").decode()
        # What has no name of its own is called after its file.
        figure = f"{self.figure.digest} {Path(self.figure.path).name}"
        return Recipe(self.source.digest, f"{self.number} {self.clip}", figure, platform, text, __version__)

    @property
    def contents(self) -> list[Content]:
        """All that a worker has to read for it."""
        more = [self.platform_file] if self.platform_file is not None else []
        return [self.source, self.figure, *more, *self.files.values()]


@dataclass(frozen=True)
class Missing:
    """What a plan names and nothing can be done with, and why."""

    file: str
    problem: str


@dataclass(frozen=True)
class Expanded:
    """The tasks of a plan, what is skipped by it, and the files that cannot be used."""

    tasks: tuple[Task, ...]
    skipped: int = 0
    missing: tuple[Missing, ...] = ()
    sources: dict[str, tuple[ClipInfo, ...]] = field(default_factory=dict)

    @property
    def seconds(self) -> float:
        """How long all results are together."""
        return sum(self.sources[task.source.path][task.number].seconds for task in self.tasks)


def clips_in(path: Path, options: ConvertWords) -> tuple[ClipInfo, ...]:
    """The clips of a source."""
    document = load(path, unit=options.unit, up=options.up, figure=options.source_figure)
    return tuple(ClipInfo(clip.name, clip.frames, clip.duration_s, len(clip.skeleton)) for clip in document.clips)


class Known:
    """What is in files; a run remembers it, so that nothing is read that was not changed."""

    def ahead(self, sources: Sequence[tuple[Path, Content, ConvertWords]]) -> None:
        """Told which sources :meth:`clips` is going to be asked for."""

    def content(self, path: Path) -> Content:
        """The hash of a file with all that it pulls in."""
        return content_of(path)

    def clips(self, path: Path, content: Content, options: ConvertWords) -> tuple[ClipInfo, ...]:
        """The clips of a source."""
        return clips_in(path, options)

    def figure(self, path: Path, content: Content, options: ConvertWords) -> None:
        """Whether a figure can be read at all; errors as of :func:`fairswap.load`."""
        load(path, figure=options.figure)


def expand(
    plan: Plan, known: Known | None = None, step: Callable[[str], None] = lambda _: None,
    own: Collection[Path] = (),
) -> Expanded:  # fmt: skip
    """The tasks of a plan, in the order of its sources; ``own`` are files that it has made itself.

    A source or figure that cannot be read is among the ``missing``; the others go on.

    Raises
    ------
    InputError
        If a name in it means nothing, or two results would have one name.
    """
    known, words = known or Known(), plan.words
    missing: list[Missing] = []
    figures = _usable(plan, "figures", known.figure, known, missing, step, own)
    clips: dict[str, tuple[ClipInfo, ...]] = {}

    def clips_of(path: Path, content: Content, options: ConvertWords) -> None:
        clips[content.path] = known.clips(path, content, options)
        if not clips[content.path]:
            raise InputError("there is no clip in it", remedy="Export it with its animation")

    sources = _usable(plan, "sources", clips_of, known, missing, step, own)
    platforms = [_platform(plan, name) for name in words.platforms] or [("", None)]
    files: dict[str, Content] = {}
    tasks, skipped = [], 0
    for source in sources:
        for number, clip in enumerate(clips[source.path]):
            if words.clips and not fits_any(words.clips, clip.name):
                skipped += len(figures) * len(platforms)
                continue
            for figure in figures:
                for platform, content in platforms:
                    rows = _exceptions(words.exceptions, clip.name, source, figure, platform)
                    if any(row.skip for row in rows):
                        skipped += 1
                        continue
                    convert, steps = words.convert, words.clip
                    for row in rows:
                        convert, steps = row.convert.over(convert), row.clip.over(steps)
                    tasks.append(
                        Task("", source, clip.name, number, clip.frames, clip.bones, figure, platform, content,
                             convert, steps, words.pose, _files_of(convert, plan, known, files),
                             words.results.pictures, words.results.pages, words.results.thumbnails)
                    )  # fmt: skip
    return Expanded(_named(plan, tasks, clips), skipped, tuple(missing), clips)


def _usable(
    plan: Plan, name: str, read: Callable[[Path, Content, ConvertWords], None], known: Known, missing: list[Missing],
    step: Callable[[str], None], own: Collection[Path],
) -> list[Content]:  # fmt: skip
    """The contents of the files that a plan names as sources or figures, without those that cannot be read."""
    rows: list[tuple[Path, Content, ConvertWords]] = []

    def going_on(path: Path, work: Callable[[], None]) -> bool:
        try:
            work()
        except FairSwapError as error:
            missing.append(Missing(str(path), str(error.in_file(path))))
            return False
        return True

    def look(path: Path) -> None:
        content, options = known.content(path), plan.words.convert
        for row in _exceptions(plan.words.exceptions, None, content, content, ""):
            options = row.convert.over(options)
        rows.append((path, content, options))

    for path in files_meant(getattr(plan.words, name), plan.folder, name, plan.file):
        if Path(os.path.abspath(path)) not in own:
            going_on(path, partial(look, path))
    if name == "sources":
        known.ahead(rows)
    found = []
    for path, content, options in rows:
        if going_on(path, partial(read, path, content, options)):
            found.append(content)
        step(path.name)
    return found


def _exceptions(
    rows: Sequence[ExceptionWords], clip: str | None, source: Content, figure: Content, platform: str
) -> list[ExceptionWords]:
    """The exceptions that hold for a clip of a source on a figure; without a clip, those for whole files."""

    def fits(patterns: tuple[str, ...], *names: str) -> bool:
        return not patterns or any(fits_any(patterns, name) for name in names)

    def names(path: str) -> tuple[str, ...]:
        return Path(path).name, Path(path).stem, path

    found = []
    for row in rows:
        if clip is None:
            # What is said of a file as such: neither of clips in it, nor of where it goes.
            whole = not row.clips and not row.platforms and bool(row.files) != bool(row.figures)
            if whole and (fits(row.files or row.figures, *names(source.path))):
                found.append(row)
        elif (
            fits(row.clips, clip) and fits(row.files, *names(source.path)) and fits(row.figures, *names(figure.path))
            and fits(row.platforms, platform, Path(platform).stem)
        ):  # fmt: skip
            found.append(row)
    return found


def _platform(plan: Plan, name: str) -> tuple[str, Content | None]:
    """A platform as a task names it, and its content where it is a file."""
    from fairswap.platform.rules import platform_named

    path = plan.folder / name
    inside = _is_file(path)
    platform_named(path if inside else name)
    return (str(path), content_of(path)) if inside else (name, None)


def _files_of(options: ConvertWords, plan: Plan, known: Known, done: dict[str, Content]) -> dict[str, Content]:
    """The contents of the files that options name, by those names.

    Raises
    ------
    InputError
        If one that has to be a file is none.
    """
    found = {}
    for name in _FILES:
        value = getattr(options, name)
        for text in (value,) if isinstance(value, str) else value or ():
            if text not in done:
                path = plan.folder / text
                if not _is_file(path):
                    if name in ("layer", "source_face", "target_face", "face_from"):
                        field_name = name.replace("_", "-")
                        raise InputError(f"there is no file {text[:160]!r}", file=plan.file or None, place=field_name,
                                         remedy="Correct its name")  # fmt: skip
                    continue  # something built in, or a word
                done[text] = known.content(path)
            found[text] = done[text]
    return found


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def _named(plan: Plan, tasks: list[Task], clips: dict[str, tuple[ClipInfo, ...]]) -> tuple[Task, ...]:
    """The tasks with the names of their results.

    Raises
    ------
    InputError
        If two have one name.
    """
    template = plan.name_template
    taken: dict[str, Task] = {}
    files, figures = _labels(clips), _labels({task.figure.path: None for task in tasks})
    known = Counter(as_one_name(clip.name) for rows in clips.values() if len(rows) > 1 for clip in rows)
    out = []
    for task in tasks:
        file, clip = files[task.source.path], task.clip
        # A clip alone in its file may be called anything ("Take 001"): the file's name is what people know it by.
        if len(clips[task.source.path]) == 1 or not clip:
            clip = file
        elif known[as_one_name(clip)] > 1:
            clip = f"{file}-{clip}"
        values = {
            "clip": file_stem(clip),
            "n": str(task.number + 1),
            "file": file_stem(file, "motion"),
            "figure": file_stem(figures[task.figure.path], "figure"),
            "platform": file_stem(Path(task.platform).stem, "as-it-is") if task.platform else "",
        }
        name = template.replace("\\", "/").format(**values)
        result = "/".join(part for part in name.split("/") if part) + plan.words.results.format
        if as_one_name(result) in taken:
            first, second = (f"{Path(one.source.path).name} {one.clip!r}" for one in (taken[as_one_name(result)], task))
            raise InputError(
                f"two results would be called {result[:120]!r}: {first} and {second}",
                file=plan.file or None, place="results.name",
                remedy="Put {file}, {n}, {figure} or {platform} into the name, or rename one of the files",
            )  # fmt: skip
        taken[as_one_name(result)] = task
        out.append(msgspec.structs.replace(task, result=result))
    return tuple(out)


def _labels(paths: Iterable[str]) -> dict[str, str]:
    """What files are called: by their stems; those of one stem by their kind, too, or by their folder."""
    given = [Path(path) for path in paths]
    found = {path: path.stem for path in given}
    ways: list[Callable[[Path], str]] = [
        lambda path: f"{path.stem}-{path.suffix[1:]}", lambda path: f"{path.parent.name}-{path.stem}",
    ]  # fmt: skip
    for more in ways:
        counts = Counter(as_one_name(name) for name in found.values())
        found = {path: more(path) if counts[as_one_name(name)] > 1 else name for path, name in found.items()}
    return {str(path): name for path, name in found.items()}


def saved_profiles() -> str:
    """A hash of the profiles that are kept for families of figures: bones and faces are found by them, too."""
    try:
        files = [path for kind in ("bones", "faces") for path in sorted(user_folder(kind).glob("*.toml"))]
    except (OSError, OutputError):
        return ""
    told = "".join(f"{path.name} {file_digest(path)}\n" for path in files)
    return hashlib.sha256(told.encode()).hexdigest()[:16] if told else ""
