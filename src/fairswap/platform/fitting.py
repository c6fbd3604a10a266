"""Make a figure and its clips fit a platform: all that can be mended is mended, in order, and each change is told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from fairswap.bones.choice import with_one_person
from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import RoleMap
from fairswap.clips.proving import body_reel
from fairswap.errors import Finding
from fairswap.face.head import Head
from fairswap.figures.bones_alone import morphs_left_out, motion_alone, without_mesh
from fairswap.formats.files import document_of, encoded_size
from fairswap.formats.outputs import Outputs
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.platform.changes import Change
from fairswap.platform.influences import with_fewer_influences
from fairswap.platform.morphs import charted_morphs, same_morphs, without_morphs
from fairswap.platform.motions import down_to_size, fitted_clip, thinned_clip
from fairswap.platform.proof import Proof, prove
from fairswap.platform.rules import Platform, platform_named
from fairswap.platform.skeleton import Rebuilt, moved_to_rebuilt, rebuilt
from fairswap.platform.textures import fitted_textures
from fairswap.pose.choice import pose_named
from fairswap.pose.rest import rest_pose_of
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.setting import skeleton_resting_in, with_rest

_REST_SLACK_DEGREES = 1.0


@dataclass(frozen=True, eq=False)
class Fitted:
    """A figure that fits, its clips, what was changed, what could not be, and the proof that it looks the same.

    >>> import fairswap
    >>> fitted = fairswap.fit(fairswap.demo_file("pip.glb"), "quillmoor")
    >>> fitted, fitted.changes[0].rule
    (<Fitted 'Pip' for quillmoor: 4 changes, 0 clips>, 'figure.rest_pose')
    """

    figure: Figure
    clips: tuple[Clip, ...]
    changes: tuple[Change, ...]
    findings: tuple[Finding, ...]
    proof: Proof | None
    reel_proof: Proof | None
    roles: RoleMap = field(repr=False)
    platform: Platform = field(repr=False)

    def save(self, out: str | Path, *, force: bool = False) -> list[str]:
        """Write it: into a file figure and clips together, into a folder the figure and each motion apart.

        Raises
        ------
        OutputError
            If a file is there already or cannot be written.
        UsageError
            If the platform wants one clip in a file, and ``out`` is one file for several.
        """
        from fairswap.platform.writing import write_fitted

        return write_fitted(self, Path(out), Outputs(force=force))

    def __repr__(self) -> str:
        counts = f"{len(self.changes)} changes, {len(self.clips)} clips"
        return f"<Fitted {self.figure.name!r} for {self.platform.name}: {counts}>"


def fit(
    what: Document | Figure | str | Path, platform: Platform | str | Path, *,
    bones: BoneProfile | str | Path | None = None,
) -> Fitted:  # fmt: skip
    """The main figure of a document and its clips, as a platform wants them.

    >>> import fairswap
    >>> len(fairswap.fit(fairswap.demo_file("pip.glb"), "fernway").figure.skeleton)
    30

    Parameters
    ----------
    what : path, Document or Figure
    platform : Platform, name or file
    bones : BoneProfile, name or file, optional
        Which bone is which.

    Raises
    ------
    ImpossibleError
        If the bones of the figure are not known.
    """
    document, rules = with_one_person(document_of(what)), platform_named(platform)
    joined: list[Change] = []
    if document.joined:
        joined.append(Change("figure.max_bones", f"{len(document.joined)} bones of a second skeleton joined"))
    figure = document.figure
    done = fit_figure(figure, document.clips_of(figure), rules, None if bones is None else profile_named(bones))
    told = (*document.findings, *rules.findings, *document.left_standing(), *done.findings)
    return replace(done, changes=(*joined, *done.changes), findings=told)


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
    source = RiggedFigure.of(figure, bones=bones, clip=moving)
    roles = source.roles
    figure, clips = _rested(source, list(clips), platform, changes)
    original, original_clips = figure, list(clips)
    figure, clips = _with_morphs(figure, roles, clips, platform, changes, findings)
    made = rebuilt(figure, roles, platform.profile, platform.figure)
    _tell_bones(figure, made, platform, changes)
    new = made.figure
    # What was decided about other bones is of no use to these, and would count against the size.
    carried = [replace(moved_to_rebuilt(clip, made), made=None) for clip in clips]
    reel, _ = body_reel(RiggedFigure.of(original, bones=bones, clip=moving), 10)
    new_reel = moved_to_rebuilt(replace(reel, name="Reel"), made)
    most = platform.figure.max_influences
    if most is not None and new.max_influences > most:
        before = new.max_influences
        new, vertices = with_fewer_influences(new, most, new_reel.poses)
        made = replace(made, figure=new)
        changes.append(Change("figure.max_influences", f"{vertices} vertices from up to {before} bones to {most}"))
    new, textures = fitted_textures(new, platform.figure.max_texture_px, platform.figure.texture_formats)
    for a, b in textures:
        what = f"a texture from {a.width} × {a.height} {a.format} to {b.width} × {b.height} {b.format}"
        changes.append(Change("figure.textures", what, f"{a.bytes / 1024:.0f} to {b.bytes / 1024:.0f} KiB"))
    target = RiggedFigure.of(new, bones=platform.profile, part="target")
    proof = prove(original, original_clips, new, carried, roles) if clips else None
    reel_proof = prove(original, [reel], new, [new_reel], roles)
    fitted: list[Clip] = []
    for clip in carried:
        parts, told = fitted_clip(clip, target, platform.clip)
        changes += told
        fitted += [_with_keys(part, target, platform, changes, findings) for part in parts]
    for clip in fitted:
        if platform.clip.with_mesh == "never":
            findings += morphs_left_out(clip, f"{platform.name} takes motions without a mesh")
    limits = (
        ("max_vertices", sum(len(mesh.vertices) for mesh in new.meshes)),
        ("max_triangles", sum(len(mesh.triangles) for mesh in new.meshes)),
        ("max_materials", sum(len(mesh.materials) for mesh in new.meshes)),
    )
    for rule, count in limits:
        limit = getattr(platform.figure, rule)
        if limit is not None and count > limit:
            message = f"{count} {rule.removeprefix('max_')}, {limit} are allowed"
            remedy = "Reduce it where it was made: Fair Swap does not change the shape of meshes"
            findings.append(Finding(f"figure.{rule}", "problem", new.name, message, remedy))
    return Fitted(new, tuple(fitted), tuple(changes), tuple(findings), proof, reel_proof, roles, platform)


def _rested(
    source: RiggedFigure, clips: list[Clip], platform: Platform, changes: list[Change]
) -> tuple[Figure, list[Clip]]:
    """The figure resting as the platform wants, its meshes bound to that rest."""
    figure, rules = source.figure, platform.figure
    skeleton = figure.skeleton
    if rules.rest_pose != "any":
        found = rest_pose_of(figure, source.roles)
        wanted = 0.0 if rules.rest_pose == "T" else rules.arm_degrees
        if found.kind == "uneven" or abs(found.arm_degrees - wanted) > _REST_SLACK_DEGREES:
            skeleton = skeleton_resting_in(source, pose_named("t" if rules.rest_pose == "T" else f"a:{wanted:g}"))
    rested = with_rest(figure, clips, skeleton, skin="bind")
    if skeleton != figure.skeleton:
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
    head = Head(figure, roles, clips=tuple(clips))
    if not head.chart.columns:
        return figure, clips
    new, moved, rows = charted_morphs(head, platform.face, clips)
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
        changes.append(Change("figure.max_bones", f"merged into what carries them: {some}"))
    if old.ends:
        changes.append(Change("figure.ends", f"{len(old.ends)} end bones dropped"))
    turned = [
        bone for i, bone in enumerate(made.bones)
        if bone.first == bone.second and abs(new.rest.rotations[0, i] @ old.rest.rotations[0, bone.first]) < 1.0 - 1e-6
    ]  # fmt: skip
    if platform.figure.axes != "any" and turned:
        changes.append(Change("figure.axes", f"{platform.figure.axes} along each bone ({len(turned)} turned)"))


def _with_keys(
    clip: Clip, target: RiggedFigure, platform: Platform, changes: list[Change], findings: list[Finding]
) -> Clip:
    """Keys thinned if they shall be, and further until a motion file is small enough."""
    rules, limits = platform.clip, platform.file
    if rules.keys == "thinned":
        clip, off = thinned_clip(clip, target, rules.thin_mm)
        changes.append(Change("clip.keys", f"{clip.name}: keys thinned", f"{off:.2f} mm at worst"))
    if limits.max_motion_kib is not None:
        smaller, told, fits = down_to_size(
            clip,
            target,
            rules,
            limits.max_motion_kib,
            limits.max_loss_mm,
            lambda c: motion_bytes(target.figure, c, platform),
        )
        clip = smaller
        changes += told
        if not fits:
            size = motion_bytes(target.figure, clip, platform) / 1024
            message = f"{clip.name}: {size:.0f} KiB is the least within {limits.max_loss_mm:g} mm"
            findings.append(Finding("file.max_motion_kib", "problem", clip.name, message, "Cut it into shorter clips"))
    return clip


def motion_bytes(figure: Figure, clip: Clip, platform: Platform) -> int:
    """How large a file of the motion alone is."""
    return encoded_size(without_mesh(figure), [motion_alone(clip)], ".glb", space=platform.space)
