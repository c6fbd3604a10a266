"""A platform: the demands of one target ecosystem, written down once in a TOML file (``fairswap = "platform/2"``)."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec

from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import is_role
from fairswap.errors import Finding, InputError, Severity, UsageError
from fairswap.face.chart import FaceChart
from fairswap.formats.own import file_beside, renamed, struct_from_file
from fairswap.formats.patterns import NamePattern
from fairswap.model.rate import rate_from_text_per_second
from fairswap.model.space import Space

_FOLDER = Path(__file__).parents[1] / "data" / "platforms"
_Count = Annotated[int, msgspec.Meta(ge=1)]
_Above0 = Annotated[float, msgspec.Meta(gt=0.0)]


class SpaceRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    up: str = "+Y"
    forward: str = "+Z"
    unit: str = "m"


# A figure has the height that is wanted if it is no further off, as a share: a T is not measured to the hair.
SAME_HEIGHT = 0.01
FACE_ROLES = frozenset({"jaw", "eye_left", "eye_right"})


class FigureRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a figure must be like; a rule that is left out allows everything."""

    required: list[str] = []
    forbidden: list[str] = []
    max_bones: _Count | None = None
    spine: tuple[int, int] | None = None
    neck: tuple[int, int] | None = None
    root: Literal["required", "forbidden", "any"] = "any"
    extra: Literal["allowed", "merged"] = "allowed"
    helpers: Literal["allowed", "merged"] = "allowed"
    ends: Literal["allowed", "dropped"] = "allowed"
    face_bones: Literal["all", "jaw", "eyes", "none"] = "all"
    axes: Literal["any", "+Y", "+X"] = "any"
    rest_pose: Literal["any", "T", "A", "down"] = "any"
    arm_degrees: Annotated[float, msgspec.Meta(ge=-90.0, le=90.0)] = 45.0
    max_influences: _Count | None = None
    height: _Above0 | None = None
    height_m: tuple[float, float] | None = None
    max_vertices: _Count | None = None
    max_triangles: _Count | None = None
    max_materials: _Count | None = None
    max_cutting_mm: Annotated[float, msgspec.Meta(ge=0.0)] | None = None
    bone_boxes: Literal["any", "stated"] = "any"
    textures: Literal["any", "embedded", "beside"] = "any"
    max_texture_px: _Count | None = None
    texture_formats: list[Literal["png", "jpeg"]] = []
    morphs: Literal["any", "chart", "none"] = "any"
    max_morphs: Annotated[int, msgspec.Meta(ge=0)] | None = None


def kept_of_face(rules: FigureRules) -> frozenset[str]:
    """The roles of bones of a face that a platform takes which does not take all."""
    kept = {"eyes": FACE_ROLES - {"jaw"}, "jaw": FACE_ROLES}.get(rules.face_bones, frozenset())
    return kept | (FACE_ROLES & {*rules.required})


class ClipRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What clips must be like."""

    rates: list[float | str] = []
    max_seconds: _Above0 | None = None
    moving: Literal["any", "rotations"] = "any"
    keys: Literal["any", "uniform", "thinned"] = "any"
    thin_mm: _Above0 = 2.0
    travel: Literal["any", "hips", "root", "none"] = "any"
    cycles: list[str] = []
    names: str = ""
    max_name_length: _Count | None = None
    files: Literal["any", "one", "all"] = "any"
    with_mesh: Literal["any", "never"] = "any"


_Suffix = Literal[
    ".glb", ".gltf", ".vrm", ".vrma", ".bvh", ".csv", ".dae", ".zae", ".usda", ".usdc", ".usd", ".usdz", ".x3d",
]  # fmt: skip


class FileRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What files must be like; sizes in KiB. Motions without a mesh have a limit, and maybe a format, of their own."""

    formats: list[_Suffix] = []
    motion_format: _Suffix | Literal[""] = ""
    max_kib: _Above0 | None = None
    max_motion_kib: _Above0 | None = None
    max_loss_mm: _Above0 = 10.0


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

    ``severity`` gives rules another weight than *problem*, by their names (``clip.rates``, ``figure.max_bones``).

    >>> import fairswap
    >>> quillmoor = fairswap.platform.named("quillmoor")
    >>> quillmoor.figure.max_bones
    120
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
    path: str = ""
    findings: tuple[Finding, ...] = ()

    def __repr__(self) -> str:
        return f"<Platform {self.name!r}: bones as in {self.profile.name}, {len(self.clip.rates)} rates>"

    @property
    def is_built_in(self) -> bool:
        """Whether its name alone names it."""
        return Path(self.path).parent == _FOLDER

    @classmethod
    def load(cls, path: str | Path) -> Platform:
        """Read a platform file.

        Raises
        ------
        InputError
            With the field that is wrong; of an unknown one, the nearest known.
        """
        older = {"platform/1": _from_first_edition}
        read, findings = struct_from_file(path, "platform/2", "a platform", _File, older)
        return _checked(read, path, findings)


# What every file is checked for, whatever a platform says.
_UNASKED = ("bones", "space.standard", "file.standard", "figure.one_skeleton", "clip.start")


def rule_names() -> tuple[str, ...]:
    """All rules as ``table.field``; those of no field are kept unasked."""
    tables = (("space", SpaceRules), ("figure", FigureRules), ("clip", ClipRules), ("file", FileRules))
    return (*_UNASKED, *(f"{name}.{field}" for name, struct in tables for field in struct.__struct_fields__))


def built_in_platforms() -> tuple[Platform, ...]:
    """Our own stages, and open standards.

    >>> import fairswap
    >>> [platform.name for platform in fairswap.platform.platforms()]
    ['fernway', 'quillmoor', 'saltglass', 'vrm-1']
    """
    return tuple(_built_in(path) for path in sorted(_FOLDER.glob("*.toml")))


def platform_named(name: str | Path | Platform) -> Platform:
    """A built-in platform by its name, or one from a file.

    >>> platform_named("fernway").figure.max_bones
    32

    Raises
    ------
    InputError
        If there is none; those that are there are named.
    """
    if isinstance(name, Platform):
        return name
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


def _checked(read: _File, path: str | Path, findings: list[Finding]) -> Platform:
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
    if figure.max_bones is not None and figure.max_bones < len(figure.required):
        problem = f"at most {figure.max_bones} bones are allowed, but {len(figure.required)} are required"
        raise wrong(problem, "figure.max_bones", "Raise it, or require fewer")
    for name, pair in (("spine", figure.spine), ("neck", figure.neck), ("height_m", figure.height_m)):
        if pair is not None and (pair[0] > pair[1] or pair[0] < 0):
            raise wrong(f"{pair[0]} to {pair[1]} is no range", f"figure.{name}", "Write the smaller number first")
    low, high = figure.height_m or (0.0, float("inf"))
    if figure.height is not None and not low <= figure.height <= high:
        raise wrong(f"{figure.height:g} m is out of height_m", "figure.height", "Decide for one")
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
            NamePattern(clip.names)
        except UsageError as error:
            raise wrong(error.problem, "clip.names", error.remedy or "") from None
    for rule in read.severity:
        if rule not in rule_names():
            near = difflib.get_close_matches(rule, rule_names(), 1)
            raise wrong(f"there is no rule {rule!r}", "severity", f"Do you mean {near[0]}?" if near else "See docs")
    profile = profile_named(beside if (beside := file_beside(path, read.bones, "bones")).is_file() else read.bones)
    face = FaceChart.load(file_beside(path, read.face, "face")) if read.face else None
    if figure.morphs == "chart" and face is None:
        raise wrong("morphs are those of the face chart, but there is none", "figure.morphs", 'Give face = "F.toml"')
    return Platform(
        read.name, read.title, profile, face, space, figure, clip, read.file, dict(read.severity), str(path),
        tuple(findings),
    )  # fmt: skip


# What rules were called in the first edition.
_FIRST_NAMES = {
    "bones_most": "max_bones", "influences_most": "max_influences", "vertices_most": "max_vertices",
    "triangles_most": "max_triangles", "materials_most": "max_materials", "texture_px_most": "max_texture_px",
    "morphs_most": "max_morphs", "longest_s": "max_seconds", "name_longest": "max_name_length",
    "largest_kib": "max_kib", "motion_largest_kib": "max_motion_kib", "most_loss_mm": "max_loss_mm",
}  # fmt: skip


def _from_first_edition(raw: dict[str, Any]) -> dict[str, Any]:
    tables = {
        key: renamed(table, _FIRST_NAMES) if key in ("figure", "clip", "file") and isinstance(table, dict) else table
        for key, table in raw.items()
    }
    if isinstance(tables.get("severity"), dict):
        parts = [(rule.partition("."), severity) for rule, severity in tables["severity"].items()]
        tables["severity"] = {f"{a}{dot}{_FIRST_NAMES.get(b, b)}": severity for (a, dot, b), severity in parts}
    return tables


def template(name: str) -> str:
    """A new platform file in which every rule stands, explained; those that demand nothing are commented out.

    >>> import fairswap
    >>> print(fairswap.platform.template("my stage").splitlines()[0])
    fairswap = "platform/2"
    """
    return _TEMPLATE.format(name=name)


_TEMPLATE = """fairswap = "platform/2"
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
# max_bones = 75
# spine = [1, 3]          # how many spine bones, from and to; neck the same
# neck = [1, 1]
# root = "required"       # a bone above the hips: required, forbidden, any
# extra = "merged"        # bones without a role (skirts, tails): allowed, merged into their parents
# helpers = "merged"      # twist and correction bones: allowed, merged
# ends = "dropped"        # leaf markers: allowed, dropped
# face_bones = "eyes"     # all, jaw (and eyes), eyes, none
# axes = "+Y"             # which axis of a bone points along it: +Y, +X, any
# rest_pose = "T"         # T, A, down, any
# arm_degrees = 45.0      # of an A: how far the arms are below level
# max_influences = 4     # bones that move one vertex
# height = 1.70           # metres: every figure is made so tall
# height_m = [0.5, 3.0]   # from and to: only checked
# max_vertices = 30000
# max_triangles = 20000
# max_materials = 4
# max_cutting_mm = 5      # how deep clothes may pass into the body, at rest and in each clip: only checked
# bone_boxes = "stated"   # the bounds of each bone's skin, in metres, stand in the file (docs/formats.md)
# textures = "embedded"   # embedded, beside, any
# max_texture_px = 1024
# texture_formats = ["png", "jpeg"]
# morphs = "chart"        # any, none, or those of the face chart
# max_morphs = 60

[clip]
# rates = [30, 60]        # frames per second: 29.97 means 30000/1001
# max_seconds = 10.0
# moving = "rotations"    # only rotations, and the place of the hips (and root); or any
# keys = "thinned"        # uniform (a key on every frame), thinned, any
# thin_mm = 2.0           # how far thinned motion may be off
# travel = "none"         # over the ground on: hips, root, none (on the spot), any
# cycles = ["walk*", "idle*"]   # clips of these names must close
# names = "[a-z0-9-]+"    # a pattern for names of clips
# max_name_length = 32
# files = "one"           # clips in a file: one, all in one, any
# with_mesh = "never"     # motions come without the mesh

[file]
# formats = [".glb"]
# max_kib = 20000
# max_motion_kib = 96 # of a file without a mesh
# max_loss_mm = 10.0     # fitting never gives up more than this to meet a size

[severity]                # a rule is a problem unless it is said otherwise: note, warning, problem
# "figure.height_m" = "warning"
"""
