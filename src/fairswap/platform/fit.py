"""Make a figure and its clips fit a platform: all that can be mended is mended, in order, and each change is told."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from fairswap.body.reel import reel_of
from fairswap.body.subject import Subject
from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip
from fairswap.document import Document
from fairswap.errors import Finding, ImpossibleError
from fairswap.face.carry import FaceSide
from fairswap.figure import Figure
from fairswap.figures.merge import with_copies_merged
from fairswap.files import save
from fairswap.platform.influences import with_fewer_influences
from fairswap.platform.morphs import charted_morphs, same_morphs, without_morphs
from fairswap.platform.motions import Change, down_to_size, fitted_clip, thinned_clip
from fairswap.platform.proof import Proof, prove
from fairswap.platform.rules import Platform
from fairswap.platform.skeleton import Rebuilt, carried_over, rebuilt
from fairswap.platform.textures import fitted_textures
from fairswap.pose.choosing import skeleton_for
from fairswap.pose.rest import rest_pose_of
from fairswap.pose.setting import with_rest

_REST_SLACK_DEGREES = 1.0


@dataclass(frozen=True, eq=False)
class Fitted:
    """A figure that fits, its clips, what was changed, what could not be, and the proof that it looks the same."""

    figure: Figure
    clips: tuple[Clip, ...]
    changes: tuple[Change, ...]
    findings: tuple[Finding, ...]
    proof: Proof | None
    reel_proof: Proof | None
    roles: RoleMap = field(repr=False)


def fit(document: Document, platform: Platform, bones: BoneProfile | None = None) -> Fitted:
    """The main figure of a document and its clips, as a platform wants them."""
    joined: list[Change] = []
    if len(document.figures) > 1:
        try:
            document, told = with_copies_merged(document)
            joined.append(Change("figure.bones_most", f"{len(told['merged'])} bones of a second skeleton joined"))
        except ImpossibleError:
            pass  # the others are no copies: they are left out, and the report says so
    left = document.left_standing()
    figure = document.figure
    done = fit_figure(figure, document.clips_of(figure), platform, bones)
    return replace(done, changes=(*joined, *done.changes), findings=(*left, *done.findings))


def fit_figure(figure: Figure, clips: Sequence[Clip], platform: Platform, bones: BoneProfile | None = None) -> Fitted:
    """A figure and its clips as a platform wants them.

    In order: rest pose, morphs, skeleton, influences, textures; then each clip's travel, rate, places, length, name,
    keys and size.

    Raises
    ------
    ImpossibleError
        If the bones of the figure are not known.
    """
    changes: list[Change] = []
    findings: list[Finding] = []
    moving = max(clips, key=lambda clip: clip.frames, default=None)
    subject = Subject("source", figure, bones, clip=moving)
    roles = subject.roles
    figure, clips = _rested(subject, list(clips), platform, changes)
    original, original_clips = figure, list(clips)
    figure, clips = _with_morphs(figure, roles, clips, platform, changes, findings)
    made = rebuilt(figure, roles, platform.profile, platform.figure)
    _tell_bones(figure, made, platform, changes)
    new = made.figure
    carried = [carried_over(clip, made) for clip in clips]
    target = Subject("target", new, platform.profile)
    reel, _ = reel_of(Subject("target", original, bones or None, clip=moving), 10)
    new_reel = carried_over(replace(reel, name="Reel"), made)
    most = platform.figure.influences_most
    if most is not None and new.influences_max > most:
        before = new.influences_max
        new, vertices = with_fewer_influences(new, most, new_reel.poses)
        made = replace(made, figure=new)
        changes.append(Change("figure.influences_most", f"{vertices} vertices from up to {before} bones to {most}"))
        target = Subject("target", new, platform.profile)
    new, textures = fitted_textures(new, platform.figure.texture_px_most, platform.figure.texture_formats)
    for a, b in textures:
        what = f"a texture from {a.width} × {a.height} {a.format} to {b.width} × {b.height} {b.format}"
        changes.append(Change("figure.textures", what, f"{a.bytes / 1024:.0f} to {b.bytes / 1024:.0f} KiB"))
    target = Subject("target", new, platform.profile)
    proof = prove(original, original_clips, new, carried, roles) if clips else None
    reel_proof = prove(original, [reel], new, [new_reel], roles)
    fitted: list[Clip] = []
    for clip in carried:
        parts, told = fitted_clip(clip, target, platform.clip)
        changes += told
        fitted += [_with_keys(part, target, platform, changes, findings) for part in parts]
    limits = (
        ("vertices_most", sum(len(mesh.vertices) for mesh in new.meshes)),
        ("triangles_most", sum(len(mesh.triangles) for mesh in new.meshes)),
        ("materials_most", sum(len(mesh.materials) for mesh in new.meshes)),
    )
    for rule, count in limits:
        limit = getattr(platform.figure, rule)
        if limit is not None and count > limit:
            message = f"{count} {rule.removesuffix('_most')}, {limit} are allowed"
            remedy = "Reduce it where it was made: Fair Swap does not change the shape of meshes"
            findings.append(Finding(f"figure.{rule}", "problem", new.name, message, remedy))
    return Fitted(new, tuple(fitted), tuple(changes), tuple(findings), proof, reel_proof, roles)


def _rested(
    subject: Subject, clips: list[Clip], platform: Platform, changes: list[Change]
) -> tuple[Figure, list[Clip]]:
    """The figure resting as the platform wants, its meshes bound to that rest."""
    figure, rules = subject.figure, platform.figure
    skeleton = figure.skeleton
    if rules.rest_pose != "any":
        found = rest_pose_of(figure, subject.roles)
        wanted = 0.0 if rules.rest_pose == "T" else rules.arm_degrees
        if found["kind"] == "uneven" or abs(found["arm_degrees"] - wanted) > _REST_SLACK_DEGREES:
            skeleton = skeleton_for(subject, "t" if rules.rest_pose == "T" else f"a:{wanted:g}")
    rested = with_rest(figure, clips, skeleton, skin="bind")
    if skeleton is not figure.skeleton:
        degrees = max(rested.moved_degrees.values(), default=0.0)
        said = f"rest pose to {rules.rest_pose}: bones turned by up to {degrees:.0f} degrees"
        changes.append(Change("figure.rest_pose", said, f"skin {rested.skin_mean_mm:.2f} mm mean"))
    return rested.figure, list(rested.clips)


def _with_morphs(
    figure: Figure,
    roles: RoleMap,
    clips: list[Clip],
    platform: Platform,
    changes: list[Change],
    findings: list[Finding],
) -> tuple[Figure, list[Clip]]:
    rules = platform.figure
    morphs = sum(len(mesh.morph_names) for mesh in figure.meshes)
    if rules.morphs == "none" and morphs:
        changes.append(Change("figure.morphs", f"{morphs} morphs dropped"))
        return without_morphs(figure, clips)
    if rules.morphs != "chart" or platform.face is None or (morphs and same_morphs(figure, platform.face)):
        return figure, clips
    side = FaceSide(figure, roles, clips=tuple(clips))
    if not side.chart.ways:
        return figure, clips
    new, moved, rows = charted_morphs(side, platform.face, clips)
    for row in rows:
        if row.lost >= 0.9:
            findings.append(Finding("morph-lost", "warning", row.name, f"the face has nothing to make {row.name!r} of"))
        else:
            what = f"{row.name!r} made of {', '.join(map(repr, row.made_of[:3]))}"
            changes.append(
                Change("figure.morphs", what, f"{100 * row.lost:.0f} % of it missing" if row.lost > 0.02 else "")
            )
    return new, moved


def _tell_bones(figure: Figure, made: Rebuilt, platform: Platform, changes: list[Change]) -> None:
    old, new = figure.skeleton, made.figure.skeleton
    renamed = sum(bone.name != old.names[bone.first] for bone in made.bones if bone.first == bone.second)
    if renamed:
        changes.append(Change("bones", f"{renamed} bones called as in {platform.profile.name}"))
    if made.added:
        changes.append(Change("figure.required", f"put in: {', '.join(made.added)}"))
    if made.merged:
        some = ", ".join(made.merged[:6]) + (f" and {len(made.merged) - 6} more" if len(made.merged) > 6 else "")
        changes.append(Change("figure.bones_most", f"merged into what carries them: {some}"))
    if old.ends:
        changes.append(Change("figure.ends", f"{len(old.ends)} end bones dropped"))
    turned = [
        bone for i, bone in enumerate(made.bones)
        if bone.first == bone.second and abs(new.rest.rotations[0, i] @ old.rest.rotations[0, bone.first]) < 1.0 - 1e-6
    ]  # fmt: skip
    if platform.figure.axes != "any" and turned:
        changes.append(Change("figure.axes", f"{platform.figure.axes} along each bone ({len(turned)} turned)"))


def _with_keys(clip: Clip, target: Subject, platform: Platform, changes: list[Change], findings: list[Finding]) -> Clip:
    """Keys thinned if they shall be, and further until a motion file is small enough."""
    rules, limits = platform.clip, platform.file
    if rules.keys == "thinned":
        clip, off = thinned_clip(clip, target, rules.thin_mm)
        changes.append(Change("clip.keys", f"{clip.name}: keys thinned", f"{off:.2f} mm at worst"))
    if limits.motion_largest_kib is not None:
        smaller, told, fits = down_to_size(
            clip,
            target,
            rules,
            limits.motion_largest_kib,
            limits.most_loss_mm,
            lambda c: motion_bytes(target.figure, c, platform),
        )
        clip = smaller
        changes += told
        if not fits:
            size = motion_bytes(target.figure, clip, platform) / 1024
            message = f"{clip.name}: {size:.0f} KiB is the least within {limits.most_loss_mm:g} mm"
            findings.append(
                Finding("file.motion_largest_kib", "problem", clip.name, message, "Cut it into shorter clips")
            )
    return clip


def motion_bytes(figure: Figure, clip: Clip, platform: Platform) -> int:
    """How large a file of the motion alone is."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "motion.glb"
        save(path, without_mesh(figure), [clip], space=platform.space)
        return path.stat().st_size


def without_mesh(figure: Figure) -> Figure:
    """The bones of a figure alone."""
    return replace(figure, meshes=(), source=None)
