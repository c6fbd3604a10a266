"""Hold a file against a platform, rule by rule, as it was written: what is allowed, what was measured, what mends
it."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.body.subject import Subject
from fairswap.bones.known import roles_of
from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip
from fairswap.clips.loop import seam_of
from fairswap.document import Document
from fairswap.errors import FairSwapError, Severity
from fairswap.face.bones import face_bones
from fairswap.face.geometry import head_frame
from fairswap.figure import Figure
from fairswap.formats.gltf.reading import GltfSource
from fairswap.platform.motions import SEAM_DEGREES, matches_any, only_rotations, travel_of
from fairswap.platform.rules import Platform
from fairswap.platform.textures import facts_of, pictures_of
from fairswap.pose.rest import rest_pose_of
from fairswap.rate import rate_from_text_per_second, text_from_rate
from fairswap.rotation import rotate

_ARM_SLACK_DEGREES, _AXIS_DEGREES = 8.0, 3.0


@dataclass(frozen=True)
class RuleResult:
    """One rule held against a file."""

    rule: str
    place: str
    allowed: str
    measured: str
    ok: bool
    severity: Severity
    remedy: str = ""

    def as_dict(self) -> dict[str, Any]:
        """As plain data, for reports."""
        return dict(vars(self))


def check(document: Document, platform: Platform) -> list[RuleResult]:
    """All rules of a platform that say something, held against a file just read."""
    out: list[RuleResult] = []
    path = Path(document.file)
    fit = f"fairswap fit {path} --platform {platform.name} -o OUT"

    def add(rule: str, place: str, allowed: object, measured: object, ok: bool, remedy: str = fit) -> None:
        severity = platform.severity.get(rule, "problem")
        out.append(RuleResult(rule, place, str(allowed), str(measured), bool(ok), severity, "" if ok else remedy))

    figure = document.figure
    _check_file_rules(document, figure, platform, add)
    try:
        roles = platform.profile.assign(figure.skeleton)
        by_name = not roles.missing()
        if not by_name:
            roles = roles_of(figure, what=f"{figure.name!r}", option="--bones")
    except FairSwapError as error:
        add("figure.required", figure.name, f"bones called as in {platform.profile.name}", error.problem, False,
            error.remedy or "")  # fmt: skip
        return out
    add(
        "bones",
        figure.name,
        f"called as in {platform.profile.name}",
        "so" if by_name else f"as in {roles.profile}",
        by_name,
    )
    _check_space(document, figure, platform, add)
    _check_skeleton(figure, roles, platform, add)
    if figure.meshes:
        _check_meshes(figure, platform, add)
    subject = Subject("target", figure, platform.profile if by_name else None)
    clips = document.clips_of(figure)
    for clip in clips:
        _check_clip(clip, subject, platform, add)
    names = Counter(clip.name for clip in clips)
    if clips and (platform.clip.names or platform.clip.name_longest):
        double = [name for name, count in names.items() if count > 1]
        add("clip.names", figure.name, "each its own", f"twice {double[0]!r}" if double else "each its own", not double)
    if clips and platform.clip.files == "one":
        add("clip.files", figure.name, "one clip in a file", f"{len(clips)}", len(clips) == 1, f"{fit} (a folder)")
    if clips and platform.clip.with_mesh == "never":
        add(
            "clip.with_mesh",
            figure.name,
            "motions without a mesh",
            "with" if figure.meshes else "without",
            not figure.meshes,
        )
    return out


def broken(results: list[RuleResult]) -> list[RuleResult]:
    """The rules of severity *problem* that are broken."""
    return [row for row in results if not row.ok and row.severity == "problem"]


def _check_file_rules(document: Document, figure: Figure, platform: Platform, add: Any) -> None:
    rules, path = platform.file, Path(document.file)
    if rules.formats:
        add(
            "file.formats",
            path.name,
            ", ".join(rules.formats),
            path.suffix.lower(),
            path.suffix.lower() in rules.formats,
        )
    kib = path.stat().st_size / 1024 if path.exists() else 0.0
    if rules.largest_kib is not None and figure.meshes:
        add("file.largest_kib", path.name, f"{rules.largest_kib:g} KiB", f"{kib:.0f} KiB", kib <= rules.largest_kib,
            "Smaller textures or fewer vertices, where the figure was made")  # fmt: skip
    if rules.motion_largest_kib is not None and not figure.meshes:
        limit = rules.motion_largest_kib
        add("file.motion_largest_kib", path.name, f"{limit:g} KiB", f"{kib:.0f} KiB", kib <= limit)


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
    if rules.bones_most is not None:
        add("figure.bones_most", name, rules.bones_most, len(skeleton), len(skeleton) <= rules.bones_most)
    for kind, span in (("spine", rules.spine), ("neck", rules.neck)):
        if span is not None:
            count = len(roles.chain(kind))
            allowed = str(span[0]) if span[0] == span[1] else f"{span[0]} to {span[1]}"
            add(f"figure.{kind}", name, allowed, count, span[0] <= count <= span[1])
    above = int(skeleton.parents[roles.bones["hips"]]) >= 0
    if rules.root != "any":
        add("figure.root", name, rules.root, "there" if above else "none", above == (rules.root == "required"))
    face = face_bones(skeleton, roles, head_frame(figure, roles))
    eyes = {roles.bones[role] for role in ("eye_left", "eye_right") if role in roles.bones}
    if rules.face_bones != "all":
        kept = eyes if rules.face_bones == "eyes" else set()
        required = {roles.bones[role] for role in rules.required if role in roles.bones}
        over = [bone for bone, number in face.items() if number not in kept | required]
        add("figure.face_bones", name, rules.face_bones, ", ".join(over[:4]) or "none besides", not over)
    known = set(roles.bones.values()) | set(face.values()) | set(roles.helpers) | set(skeleton.ends)
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
        off = abs(found["arm_degrees"] - lowered)
        allowed = f"{rules.rest_pose}, arms {lowered:g} degrees below level"
        said = f"{found['kind']}, {found['arm_degrees']:g} degrees"
        add("figure.rest_pose", name, allowed, said, found["kind"] != "uneven" and off <= _ARM_SLACK_DEGREES)
    if rules.axes != "any":
        off_axis = _off_axis(figure, roles, rules.axes)
        said = f"{off_axis[0]} and {len(off_axis) - 1} more are not" if off_axis else "so"
        add("figure.axes", name, f"{rules.axes} along each bone", said, not off_axis)
    if rules.height_m is not None and figure.meshes:
        low, high = rules.height_m
        remedy = "'fairswap inspect' shows its unit; read it with --unit if that is wrong"
        height = figure.height_m
        add("figure.height_m", name, f"{low:g} to {high:g} m", f"{height:.2f} m", low <= height <= high, remedy)


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


def _check_meshes(figure: Figure, platform: Platform, add: Any) -> None:
    rules, name = platform.figure, figure.name
    made = "Reduce it where it was made: Fair Swap does not change the shape of meshes"
    if rules.influences_most is not None:
        add("figure.influences_most", name, rules.influences_most, figure.influences_max,
            figure.influences_max <= rules.influences_most)  # fmt: skip
    for rule, limit, count in (
        ("vertices_most", rules.vertices_most, sum(len(mesh.vertices) for mesh in figure.meshes)),
        ("triangles_most", rules.triangles_most, sum(len(mesh.triangles) for mesh in figure.meshes)),
        ("materials_most", rules.materials_most, sum(len(mesh.materials) for mesh in figure.meshes)),
    ):  # fmt: skip
        if limit is not None:
            add(f"figure.{rule}", name, limit, count, count <= limit, made)
    facts = [facts_of(picture, f"mesh {where}") for picture, where in pictures_of(figure).items()]
    if rules.textures != "any" and facts:
        beside = _textures_beside(figure)
        add(
            "figure.textures",
            name,
            rules.textures,
            "beside" if beside else "embedded",
            beside == (rules.textures == "beside"),
        )
    if rules.texture_px_most is not None and facts:
        largest = max(max(row.width, row.height) for row in facts)
        add(
            "figure.texture_px_most",
            name,
            f"{rules.texture_px_most} px",
            f"{largest} px",
            largest <= rules.texture_px_most,
        )
    if rules.texture_formats and facts:
        kinds = sorted({row.format for row in facts})
        add("figure.texture_formats", name, ", ".join(rules.texture_formats), ", ".join(kinds),
            set(kinds) <= set(rules.texture_formats))  # fmt: skip
    morphs = list(dict.fromkeys(m for mesh in figure.meshes for m in mesh.morph_names))
    if rules.morphs == "none":
        add("figure.morphs", name, "none", f"{len(morphs)}", not morphs)
    elif rules.morphs == "chart" and platform.face is not None:
        unknown = [m for m in morphs if m not in platform.face.shapes]
        said = f"{', '.join(map(repr, unknown[:4]))} not" if unknown else f"{len(morphs)} of them"
        add("figure.morphs", name, f"those of {platform.face.name}", said, not unknown)
    if rules.morphs_most is not None:
        add("figure.morphs_most", name, rules.morphs_most, len(morphs), len(morphs) <= rules.morphs_most)


def _textures_beside(figure: Figure) -> bool:
    if not isinstance(figure.source, GltfSource):
        return False
    images = figure.source.container.raw.get("images", [])
    return any("uri" in image and not image["uri"].startswith("data:") for image in images)


def _check_clip(clip: Clip, subject: Subject, platform: Platform, add: Any) -> None:
    rules, name = platform.clip, clip.name
    if rules.rates:
        allowed = [rate_from_text_per_second(str(rate)) for rate in rules.rates]
        add("clip.rates", name, ", ".join(text_from_rate(rate) for rate in allowed), text_from_rate(clip.rate),
            clip.rate in allowed)  # fmt: skip
    if rules.longest_s is not None:
        add(
            "clip.longest_s",
            name,
            f"{rules.longest_s:g} s",
            f"{clip.duration_s:.2f} s",
            clip.duration_s <= rules.longest_s + 1e-3,
        )
    if rules.moving == "rotations":
        moved = only_rotations(clip, subject)[1]
        add(
            "clip.moving",
            name,
            "rotations, and the place of the hips",
            f"places of {moved} more bones" if moved else "so",
            not moved,
        )
    if rules.keys != "any":
        share = _key_share(clip)
        if share is not None:
            uniform = share > 0.98
            ok = uniform == (rules.keys == "uniform") or clip.frames < 8
            add("clip.keys", name, rules.keys, f"{share:.0%} of frames have keys", ok)
    if rules.travel != "any":
        travel = travel_of(clip, subject)
        ok = travel in (rules.travel, "still")
        add("clip.travel", name, rules.travel, "stays in place" if travel == "still" else f"on the {travel}", ok)
    if matches_any(name, rules.cycles):
        seam = seam_of(clip, 0, clip.frames - 1)
        add("clip.cycles", name, f"closes within {SEAM_DEGREES:g} degrees", f"{seam.degrees:.1f} degrees",
            seam.degrees <= SEAM_DEGREES, "fairswap clip loop FILE -o OUT")  # fmt: skip
    if rules.names:
        add("clip.names", name, rules.names, repr(name), re.fullmatch(rules.names, name) is not None)
    if rules.name_longest is not None:
        add("clip.name_longest", name, f"{rules.name_longest} letters", len(name), len(name) <= rules.name_longest)


def _key_share(clip: Clip) -> float | None:
    """How many keys a file holds against one on every frame, over the tracks that have more than two."""
    source = getattr(clip.origin, "container", None)
    if source is None:
        return None
    animation = source.raw["animations"][clip.origin.animation]
    inputs = [sampler["input"] for sampler in animation["samplers"]]
    counts = [source.raw["accessors"][number]["count"] for number in inputs]
    moving = [count for count in counts if count > 2]
    return sum(moving) / (len(moving) * clip.frames) if moving else None
