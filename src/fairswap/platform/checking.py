"""Check a file against a platform, rule by rule, as it was written: what is allowed, what was measured, what mends
it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from html import escape
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.bones.assignment import roles_of, with_stand_ins
from fairswap.bones.roles import FOUND_BY_ITSELF, THE_FILE_ITSELF, RoleMap
from fairswap.bones.skin import skin_told
from fairswap.clips.looping import seam_of
from fairswap.errors import REMEDIES, FairSwapError, Finding, Severity, remedy_for
from fairswap.face.neutral import bones_of_face
from fairswap.formats.files import document_of
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.patterns import NamePattern, common_prefix
from fairswap.model.cards import html_table
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.rate import rate_from_text_per_second, text_from_rate
from fairswap.model.rotation import rotate
from fairswap.model.stand_ins import instead_of
from fairswap.platform.as_filed import check_file, check_one_skeleton, clutter
from fairswap.platform.motions import SEAM_DEGREES, matches_any, only_rotations, travel_of
from fairswap.platform.rules import SAME_HEIGHT, Platform, kept_of_face, platform_named
from fairswap.platform.skin import check_cutting, check_meshes
from fairswap.pose.rest import rest_pose_of
from fairswap.pose.rigged import RiggedFigure

_ARM_SLACK_DEGREES, _AXIS_DEGREES = 8.0, 3.0


@dataclass(frozen=True)
class RuleResult:
    """One rule checked against a file. ``fixed_remedy``, ``code`` and ``facts`` as of a finding.

    >>> import fairswap
    >>> row = fairswap.check(fairswap.demo_file("pip.glb"), "quillmoor").results[0]
    >>> row.rule, row.allowed, row.measured, row.ok
    ('file.formats', '.glb, .gltf', '.glb', True)
    """

    rule: str
    place: str
    allowed: str
    measured: str
    ok: bool
    severity: Severity
    fixed_remedy: str = ""
    code: str = ""
    facts: Mapping[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def remedy(self) -> str:
        """What mends it, in Python; nothing if nothing needs to be done."""
        return self.worded(REMEDIES)

    def worded(self, remedies: Mapping[str, str]) -> str:
        """What mends it, worded by an interface."""
        return "" if self.ok else remedy_for(self.code, self.fixed_remedy, self.facts, remedies) or ""


@dataclass(frozen=True, eq=False)
class Check:
    """A file checked against a platform, rule by rule; ``findings`` are of what no platform has a rule for.

    >>> import fairswap
    >>> found = fairswap.check(fairswap.demo_file("juniper.glb"), "quillmoor")
    >>> found.fits, len(found.results)
    (True, 22)
    """

    file: str
    platform: Platform
    results: tuple[RuleResult, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def fits(self) -> bool:
        """Whether no rule of severity *problem* is broken."""
        return not any(row.severity == "problem" for row in self.broken)

    @property
    def broken(self) -> tuple[RuleResult, ...]:
        """The rules that are broken, of any severity."""
        return tuple(row for row in self.results if not row.ok)

    def __repr__(self) -> str:
        verdict = "fits" if self.fits else "does not fit"
        rules = list(dict.fromkeys(row.rule for row in self.broken))
        broken = f": {', '.join(rules[:5])}{' …' if len(rules) > 5 else ''}" if rules else ""
        return f"<Check: {Path(self.file).name!r} {verdict} {self.platform.name}{broken}>"

    def _repr_html_(self) -> str:
        title = f"{Path(self.file).name} {'fits' if self.fits else 'does not fit'} {self.platform.name}"
        rows = [(row.rule, row.allowed, row.measured, row.severity) for row in self.broken]
        said = "".join(f"<p>{escape(text)}</p>" for text in dict.fromkeys(row.remedy for row in self.broken))
        return html_table(title, ("broken rule", "allowed", "measured", "severity"), rows) + said


class _Results:
    """The rules checked against a file so far."""

    def __init__(self, file: str, platform: Platform) -> None:
        self.rows: list[RuleResult] = []
        self.severity = platform.severity
        self.facts = {"file": file, "platform": platform.name if platform.is_built_in else platform.path}

    def add(
        self, rule: str, place: str, allowed: object, measured: object, ok: bool, remedy: str = "",
        code: str = "does-not-fit",
    ) -> None:  # fmt: skip
        """One rule: what is allowed, what was measured, whether that is so, and what mends it."""
        severity = self.severity.get(rule, "problem")
        told = (remedy, "" if remedy else code, self.facts)
        self.rows.append(RuleResult(rule, place, str(allowed), str(measured), bool(ok), severity, *told))


def check(what: Document | Figure | str | Path, platform: Platform | str | Path) -> Check:
    """All rules of a platform that say something, checked against a file.

    >>> import fairswap
    >>> fairswap.check(fairswap.demo_file("pip.glb"), "fernway")
    <Check: '...pip.glb' does not fit fernway: figure.max_texture_px>

    Parameters
    ----------
    what : path, Document or Figure
    platform : Platform, name or file

    Raises
    ------
    InputError
        If there is no such platform, or the file cannot be read.
    """
    document, rules = document_of(what), platform_named(platform)
    figure, found = document.figure, _Results(document.file, rules)
    check_file(document, figure, rules, found.add)
    try:
        roles = with_stand_ins(rules.profile.assign(figure.skeleton), figure)
        by_name = not roles.missing()
        if not by_name:
            roles = roles_of(figure)
    except FairSwapError as error:
        wanted = f"bones called as in {rules.profile.name}"
        found.add("figure.required", figure.name, wanted, error.problem, False, error.remedy or "", error.code)
        return Check(document.file, rules, tuple(found.rows))
    its_own = roles.profile in (FOUND_BY_ITSELF, THE_FILE_ITSELF)
    named = "so" if by_name else "by names of its own" if its_own else f"as in {roles.profile}"
    if not by_name and roles.profile == rules.profile.name:
        named = f"so, behind {common_prefix(figure.skeleton.names)!r}"
    apart = [figure.skeleton.names[bone] for bone in instead_of(figure)]
    if apart:
        named += f", but {apart[0]!r} is not between the hip joints"
    found.add("bones", figure.name, f"called as in {rules.profile.name}", named, by_name and not apart)
    _check_space(document, figure, rules, found.add)
    check_one_skeleton(document, figure, found.add)
    _check_skeleton(figure, roles, rules, found.add)
    if figure.meshes:
        check_meshes(figure, rules, found.add)
    rigged = RiggedFigure.of(figure, bones=rules.profile if by_name else None)
    if figure.meshes:
        check_cutting(rigged, document.clips_of(figure), rules, found.add)
    for clip in document.clips_of(figure):
        _check_clip(clip, rigged, rules, found.add)
    _check_clips_together(figure, document.clips_of(figure), rules, found.add)
    told = (*skin_told(figure, roles), *document.left_standing(), *clutter(document))
    return Check(document.file, rules, tuple(found.rows), told)


def _check_clips_together(figure: Figure, clips: Sequence[Clip], platform: Platform, add: Any) -> None:
    if not clips:
        return
    rules, name = platform.clip, figure.name
    if rules.names or rules.max_name_length:
        double = [name for name, count in Counter(clip.name for clip in clips).items() if count > 1]
        add("clip.names", name, "each its own", f"twice {double[0]!r}" if double else "each its own", not double)
    if rules.files == "one":
        add("clip.files", name, "one clip in a file", f"{len(clips)}", len(clips) == 1, code="wants-a-folder")
    if rules.with_mesh == "never":
        said = "with" if figure.meshes else "without"
        add("clip.with_mesh", name, "motions without a mesh", said, not figure.meshes)


def _check_space(document: Document, figure: Figure, platform: Platform, add: Any) -> None:
    space = figure.space if isinstance(figure.source, GltfSource) else document.space
    for word, allowed, measured in (
        ("up", platform.space.up, space.up), ("forward", platform.space.forward, space.forward),
        ("unit", platform.space.unit, space.unit),
    ):  # fmt: skip
        add(f"space.{word}", figure.name, allowed, measured, allowed == measured)


def _check_skeleton(figure: Figure, roles: RoleMap, platform: Platform, add: Any) -> None:
    rules, skeleton, name = platform.figure, figure.skeleton, figure.name
    if rules.required:
        wanted = [role for role in rules.required if role != "root" or rules.root != "required"]
        missing = [role for role in wanted if role not in roles.bones]
        said = f"missing: {', '.join(missing[:5])}" if missing else "all there"
        add("figure.required", name, f"{len(wanted)} roles", said, not missing)
    if rules.forbidden:
        there = [role for role in rules.forbidden if role in roles.bones]
        add(
            "figure.forbidden", name, "none of " + ", ".join(rules.forbidden[:3]), ", ".join(there) or "none", not there
        )
    if rules.max_bones is not None:
        add("figure.max_bones", name, rules.max_bones, figure.bone_count, figure.bone_count <= rules.max_bones)
    for kind, span in (("spine", rules.spine), ("neck", rules.neck)):
        if span is not None:
            count = len(roles.chain(kind))
            allowed = str(span[0]) if span[0] == span[1] else f"{span[0]} to {span[1]}"
            add(f"figure.{kind}", name, allowed, count, span[0] <= count <= span[1])
    above = int(skeleton.parents[roles.bones["hips"]]) >= 0
    if rules.root != "any":
        add("figure.root", name, rules.root, "there" if above else "none", above == (rules.root == "required"))
    face = bones_of_face(figure, roles)
    if rules.face_bones != "all":
        kept = {roles.bones[role] for role in kept_of_face(rules) if role in roles.bones}
        over = [bone for bone, number in face.items() if number not in kept]
        allowed = "eyes, jaw" if rules.face_bones == "jaw" else rules.face_bones
        add("figure.face_bones", name, allowed, ", ".join(over[:4]) or "none besides", not over)
    known = set(roles.bones.values()) | set(face.values()) | set(roles.helpers) | set(skeleton.ends)
    known |= set(instead_of(figure))
    above_hips = set(skeleton.with_ancestors([roles.bones["hips"]]))
    extra = [n for bone, n in enumerate(skeleton.names) if bone not in known | above_hips]
    if rules.extra == "merged":
        add("figure.extra", name, "none", ", ".join(extra[:4]) or "none", not extra)
    if rules.helpers == "merged":
        helpers = [skeleton.names[bone] for bone in roles.helpers]
        add("figure.helpers", name, "none", ", ".join(helpers[:4]) or "none", not helpers)
    if rules.ends == "dropped":
        ends = [skeleton.names[bone] for bone in sorted(skeleton.ends)]
        add("figure.ends", name, "none", f"{len(ends)}, {ends[0]!r} one" if ends else "none", not ends)
    if rules.rest_pose != "any":
        found = rest_pose_of(figure, roles)
        lowered = {"T": 0.0, "A": rules.arm_degrees, "down": rules.arm_degrees}[rules.rest_pose]
        off = abs(found.arm_degrees - lowered)
        allowed = f"{rules.rest_pose}, arms {lowered:g} degrees below level"
        said = f"{found.kind}, {found.arm_degrees:g} degrees"
        add("figure.rest_pose", name, allowed, said, found.stands_even and off <= _ARM_SLACK_DEGREES)
    if rules.axes != "any":
        off_axis = _off_axis(figure, roles, rules.axes)
        said = f"{off_axis[0]} and {len(off_axis) - 1} more are not" if off_axis else "so"
        add("figure.axes", name, f"{rules.axes} along each bone", said, not off_axis)
    if rules.height is not None and figure.meshes:
        fine = abs(figure.height_m / rules.height - 1.0) < SAME_HEIGHT
        add("figure.height", name, f"{rules.height:g} m", f"{figure.height_m:.2f} m", fine)
    if rules.height_m is not None and figure.meshes:
        low, high = rules.height_m
        height = figure.height_m
        allowed, measured = f"{low:g} to {high:g} m", f"{height:.2f} m"
        add("figure.height_m", name, allowed, measured, low <= height <= high, code="height-wrong")


def _off_axis(figure: Figure, roles: RoleMap, axes: str) -> list[str]:
    """Limb bones along which another axis points."""
    skeleton = figure.skeleton
    places, turns = skeleton.rest.positions[0], skeleton.rest.rotations[0]
    axis = np.array([0.0, 1.0, 0.0] if axes == "+Y" else [1.0, 0.0, 0.0])
    out = []
    for side in ("left", "right"):
        for a, b in (
            ("upper_arm", "lower_arm"),
            ("lower_arm", "hand"),
            ("upper_leg", "lower_leg"),
            ("lower_leg", "foot"),
        ):
            first, second = roles.bones[f"{a}_{side}"], roles.bones[f"{b}_{side}"]
            along = places[second] - places[first]
            along = along / max(float(np.linalg.norm(along)), 1e-9)
            if np.degrees(np.arccos(np.clip(rotate(turns[first], axis) @ along, -1, 1))) > _AXIS_DEGREES:
                out.append(skeleton.names[first])
    return out


def _check_clip(clip: Clip, rigged: RiggedFigure, platform: Platform, add: Any) -> None:
    rules, name = platform.clip, clip.name
    if rules.rates:
        allowed = [rate_from_text_per_second(str(rate)) for rate in rules.rates]
        add("clip.rates", name, ", ".join(text_from_rate(rate) for rate in allowed), text_from_rate(clip.rate),
            clip.rate in allowed or _has_any_rate(clip, allowed))  # fmt: skip
    if clip.start_s > 0.0:
        add("clip.start", name, "with its first frame", f"{clip.start_s:.2f} s later", False)
    if rules.max_seconds is not None:
        add(
            "clip.max_seconds",
            name,
            f"{rules.max_seconds:g} s",
            f"{clip.duration_s:.2f} s",
            clip.duration_s <= rules.max_seconds + 1e-3,
        )
    if rules.moving == "rotations":
        moved = only_rotations(clip, rigged)[1]
        add(
            "clip.moving",
            name,
            "rotations, and the place of the hips",
            f"places of {moved} more bones" if moved else "so",
            not moved,
        )
    if rules.keys != "any":
        fraction = _keyed_fraction(clip)
        if fraction is not None:
            uniform = fraction > 0.98
            ok = uniform == (rules.keys == "uniform") or clip.frames < 8
            add("clip.keys", name, rules.keys, f"{fraction:.0%} of frames have keys", ok)
    if rules.travel != "any":
        travel = travel_of(clip, rigged)
        ok = travel in (rules.travel, "still")
        add("clip.travel", name, rules.travel, "stays in place" if travel == "still" else f"on the {travel}", ok)
    if matches_any(name, rules.cycles):
        seam = seam_of(clip, 0, clip.frames - 1)
        add("clip.cycles", name, f"closes within {SEAM_DEGREES:g} degrees", f"{seam.degrees:.1f} degrees",
            seam.degrees <= SEAM_DEGREES, code="does-not-loop")  # fmt: skip
    if rules.names:
        add("clip.names", name, rules.names, repr(name), NamePattern(rules.names).fits(name))
    if rules.max_name_length is not None:
        add(
            "clip.max_name_length",
            name,
            f"{rules.max_name_length} letters",
            len(name),
            len(name) <= rules.max_name_length,
        )


def _has_any_rate(clip: Clip, rates: Sequence[Fraction]) -> bool:
    """Whether a file's clip has keys at its ends alone, which fall on frames of one of these rates: nothing in it tells
    another one."""
    frames = [clip.duration_s * float(rate) for rate in rates]
    on_frames = any(abs(count - round(count)) < 1e-3 for count in frames)
    return on_frames and clip.origin is not None and _keyed_fraction(clip) is None


def _keyed_fraction(clip: Clip) -> float | None:
    """How many keys a file holds against one on every frame, over the bones' tracks that have more than two."""
    source = getattr(clip.origin, "container", None)
    if source is None:
        return None
    animation = source.raw["animations"][clip.origin.animation]
    bones = [channel["sampler"] for channel in animation["channels"] if channel["target"].get("path") != "weights"]
    inputs = [animation["samplers"][number]["input"] for number in bones]
    counts = [source.raw["accessors"][number]["count"] for number in inputs]
    moving = [count for count in counts if count > 2]
    return sum(moving) / (len(moving) * clip.frames) if moving else None
