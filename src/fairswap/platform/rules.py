"""A platform: the demands of one target ecosystem, written down once in a TOML file (``fairswap = "platform/1"``)."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, Literal

import msgspec

from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import is_role
from fairswap.errors import InputError, Severity, UsageError
from fairswap.face.chart import FaceChart
from fairswap.formats.own import struct_from_file
from fairswap.rate import rate_from_text_per_second
from fairswap.space import Space

FIRST_LINE = 'fairswap = "platform/1"'
_FOLDER = Path(__file__).parents[1] / "data" / "platforms"


class SpaceRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    up: str = "+Y"
    forward: str = "+Z"
    unit: str = "m"


class FigureRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a figure must be like; a rule that is left out allows everything."""

    required: list[str] = []
    forbidden: list[str] = []
    bones_most: int | None = None
    spine: tuple[int, int] | None = None
    neck: tuple[int, int] | None = None
    root: Literal["required", "forbidden", "any"] = "any"
    extra: Literal["allowed", "merged"] = "allowed"
    helpers: Literal["allowed", "merged"] = "allowed"
    ends: Literal["allowed", "dropped"] = "allowed"
    face_bones: Literal["all", "eyes", "none"] = "all"
    axes: Literal["any", "+Y", "+X"] = "any"
    rest_pose: Literal["any", "T", "A", "down"] = "any"
    arm_degrees: float = 45.0
    influences_most: int | None = None
    height_m: tuple[float, float] | None = None
    vertices_most: int | None = None
    triangles_most: int | None = None
    materials_most: int | None = None
    textures: Literal["any", "embedded", "beside"] = "any"
    texture_px_most: int | None = None
    texture_formats: list[str] = []
    morphs: Literal["any", "chart", "none"] = "any"
    morphs_most: int | None = None


class ClipRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What clips must be like."""

    rates: list[float | str] = []
    longest_s: float | None = None
    moving: Literal["any", "rotations"] = "any"
    keys: Literal["any", "uniform", "thinned"] = "any"
    thin_mm: float = 2.0
    travel: Literal["any", "hips", "root", "none"] = "any"
    cycles: list[str] = []
    names: str = ""
    name_longest: int | None = None
    files: Literal["any", "one", "all"] = "any"
    with_mesh: Literal["any", "never"] = "any"


class FileRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What files must be like; sizes in KiB. Motions without a mesh have a limit of their own."""

    formats: list[str] = []
    largest_kib: float | None = None
    motion_largest_kib: float | None = None
    most_loss_mm: float = 10.0


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    name: str
    bones: str
    title: str = ""
    face: str = ""
    space: SpaceRules = SpaceRules()
    figure: FigureRules = FigureRules()
    clip: ClipRules = ClipRules()
    file: FileRules = FileRules()
    severity: dict[str, Severity] = {}


@dataclass(frozen=True, eq=False)
class Platform:
    """One target ecosystem.

    ``severity`` gives rules another weight than *problem*, by their names (``clip.rates``, ``figure.bones_most``).
    """

    name: str
    title: str
    profile: BoneProfile
    face: FaceChart | None
    space: Space
    figure: FigureRules
    clip: ClipRules
    file: FileRules
    severity: dict[str, Severity]

    @classmethod
    def load(cls, path: str | Path) -> Platform:
        """Read a platform file.

        Raises
        ------
        InputError
            With the field that is wrong; of an unknown one, the nearest known.
        """
        try:
            read = struct_from_file(path, "platform/1", "a platform", _File)
        except InputError as error:
            raise _with_nearest(error, path) from None
        return _checked(read, path)


def rule_names() -> tuple[str, ...]:
    """All rules as ``table.field``."""
    tables = (("space", SpaceRules), ("figure", FigureRules), ("clip", ClipRules), ("file", FileRules))
    return tuple(f"{name}.{field}" for name, struct in tables for field in struct.__struct_fields__)


def built_in_platforms() -> tuple[Platform, ...]:
    """Our own stages, and open standards."""
    return tuple(_built_in(path) for path in sorted(_FOLDER.glob("*.toml")))


def platform_named(name: str | Path) -> Platform:
    """A built-in platform by its name, or one from a file.

    Raises
    ------
    InputError
        If there is none; those that are there are named.
    """
    for path in sorted(_FOLDER.glob("*.toml")):
        if path.stem == str(name):
            return _built_in(path)
    if not Path(name).is_file():
        known = ", ".join(path.stem for path in sorted(_FOLDER.glob("*.toml")))
        raise InputError("there is no such platform", file=name, remedy=f"Give a file, or one of {known}")
    return Platform.load(name)


@cache
def _built_in(path: Path) -> Platform:
    return Platform.load(path)


def _checked(read: _File, path: str | Path) -> Platform:
    """The platform, if it does not contradict itself."""

    def wrong(problem: str, place: str, remedy: str) -> InputError:
        return InputError(problem, file=path, place=place, remedy=remedy)

    figure, clip = read.figure, read.clip
    try:
        space = Space(read.space.up, read.space.forward, read.space.unit)
    except UsageError as error:
        raise wrong(error.problem, "space", error.remedy or "") from None
    for table, roles in (("required", figure.required), ("forbidden", figure.forbidden)):
        for role in roles:
            if not is_role(role):
                raise wrong(f"{role!r} is not a role", f"figure.{table}", "See docs/roles.md")
    both = sorted(set(figure.required) & set(figure.forbidden))
    if both:
        raise wrong(f"{both[0]} is required and forbidden", "figure", "Take it out of one of the lists")
    if figure.bones_most is not None and figure.bones_most < len(figure.required):
        problem = f"at most {figure.bones_most} bones are allowed, but {len(figure.required)} are required"
        raise wrong(problem, "figure.bones_most", "Raise it, or require fewer")
    for name, pair in (("spine", figure.spine), ("neck", figure.neck), ("height_m", figure.height_m)):
        if pair is not None and (pair[0] > pair[1] or pair[0] < 0):
            raise wrong(f"{pair[0]} to {pair[1]} is no range", f"figure.{name}", "Write the smaller number first")
    if "root" in figure.required and figure.root == "forbidden":
        raise wrong("a root is required and forbidden", "figure.root", "Decide for one")
    if clip.travel == "root" and figure.root == "forbidden":
        raise wrong("travel on a root that is forbidden", "clip.travel", "Allow the root, or choose hips or none")
    for rate in clip.rates:
        try:
            rate_from_text_per_second(str(rate))
        except UsageError as error:
            raise wrong(error.problem, "clip.rates", "Write frames per second") from None
    if clip.names:
        try:
            re.compile(clip.names)
        except re.error as error:
            raise wrong(f"{clip.names!r} is no pattern ({error})", "clip.names", "Write a regular expression") from None
    for rule in read.severity:
        if rule not in rule_names():
            near = difflib.get_close_matches(rule, rule_names(), 1)
            raise wrong(f"there is no rule {rule!r}", "severity", f"Do you mean {near[0]}?" if near else "See docs")
    folder = Path(path).parent
    profile = profile_named(folder / read.bones if (folder / read.bones).is_file() else read.bones)
    face = None
    if read.face:
        face = FaceChart.load(folder / read.face)
    if figure.morphs == "chart" and face is None:
        raise wrong("morphs are those of the face chart, but there is none", "figure.morphs", 'Give face = "F.toml"')
    return Platform(read.name, read.title, profile, face, space, figure, clip, read.file, dict(read.severity))


def _with_nearest(error: InputError, path: str | Path) -> InputError:
    found = re.search(r"unknown field `(\w+)`", error.problem)
    if not found:
        return error
    known = {
        field for struct in (_File, SpaceRules, FigureRules, ClipRules, FileRules) for field in struct.__struct_fields__
    }
    near = difflib.get_close_matches(found[1], known, 1)
    remedy = f"Do you mean {near[0]}?" if near else "'fairswap platform new' writes every rule with its meaning"
    return InputError(f"there is no rule {found[1]!r}", file=path, place=error.place, remedy=remedy)


def template(name: str) -> str:
    """A new platform file in which every rule stands, explained; those that demand nothing are commented out."""
    return _TEMPLATE.format(name=name)


def as_data(platform: Platform) -> dict[str, Any]:
    """A platform as plain data, for reports."""
    return {
        "name": platform.name,
        "title": platform.title,
        "bones": platform.profile.name,
        "face": platform.face.name if platform.face else None,
        "space": str(platform.space),
        **{key: msgspec.to_builtins(getattr(platform, key)) for key in ("figure", "clip", "file")},
        "severity": dict(platform.severity),
    }


_TEMPLATE = """fairswap = "platform/1"
# The demands of one platform, as its public page states them. A rule that is left out allows everything.
name = "{name}"
title = ""
bones = "quillmoor"       # its bone profile: a built-in or saved name, or a file beside this one
# face = "chart.toml"     # its face chart: the morphs it knows, in face units

[space]                   # what its files are stored in
up = "+Y"
forward = "+Z"            # where a figure looks
unit = "m"                # m, cm, mm, in, ft

[figure]
required = ["hips", "spine_1", "head"]   # roles that must have a bone (docs/roles.md)
# forbidden = ["toes_left", "toes_right"]
# bones_most = 75
# spine = [1, 3]          # how many spine bones, from and to; neck the same
# neck = [1, 1]
# root = "required"       # a bone above the hips: required, forbidden, any
# extra = "merged"        # bones without a role (skirts, tails): allowed, merged into their parents
# helpers = "merged"      # twist and correction bones: allowed, merged
# ends = "dropped"        # leaf markers: allowed, dropped
# face_bones = "eyes"     # all, eyes, none
# axes = "+Y"             # which axis of a bone points along it: +Y, +X, any
# rest_pose = "T"         # T, A, down, any
# arm_degrees = 45.0      # of an A: how far the arms are below level
# influences_most = 4     # bones that move one vertex
# height_m = [0.5, 3.0]
# vertices_most = 30000
# triangles_most = 20000
# materials_most = 4
# textures = "embedded"   # embedded, beside, any
# texture_px_most = 1024
# texture_formats = ["png", "jpeg"]
# morphs = "chart"        # any, none, or those of the face chart
# morphs_most = 60

[clip]
# rates = [30, 60]        # frames per second: 29.97 means 30000/1001
# longest_s = 10.0
# moving = "rotations"    # only rotations, and the place of the hips (and root); or any
# keys = "thinned"        # uniform (a key on every frame), thinned, any
# thin_mm = 2.0           # how far thinned motion may be off
# travel = "none"         # over the ground on: hips, root, none (on the spot), any
# cycles = ["walk*", "idle*"]   # clips of these names must close
# names = "[a-z0-9-]+"    # a pattern for names of clips
# name_longest = 32
# files = "one"           # clips in a file: one, all in one, any
# with_mesh = "never"     # motions come without the mesh

[file]
# formats = [".glb"]
# largest_kib = 20000
# motion_largest_kib = 96 # of a file without a mesh
# most_loss_mm = 10.0     # fitting never gives up more than this to meet a size

[severity]                # a rule is a problem unless it is said otherwise: note, warning, problem
# "figure.height_m" = "warning"
"""
