"""A figure as a platform wants it, made ready once; clips of it are brought over one by one, or many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

import msgspec
import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.bones.skin import skin_told
from fairswap.clips.proving import body_reel
from fairswap.errors import Finding
from fairswap.face.beside import shapes_beside
from fairswap.face.expressions import expressions_chart
from fairswap.face.head import Head
from fairswap.figures.atlas import number_of_materials
from fairswap.figures.bones_alone import morphs_left_out, motion_alone, without_mesh
from fairswap.figures.reducing import Reduced
from fairswap.formats.files import encoded_size
from fairswap.formats.outputs import Outputs
from fairswap.measure.levels import levels_told
from fairswap.model.cards import html_table
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.platform.avatars import as_avatar
from fairswap.platform.changes import Change
from fairswap.platform.face_bones import LostFaceBones, face_left_out, posed_morphs
from fairswap.platform.influences import with_fewer_influences
from fairswap.platform.morphs import Charted, charted_morphs, same_morphs, without_morphs
from fairswap.platform.motions import down_to_size, fitted_clip, thinned_clip, travel_of
from fairswap.platform.proof import Proof, prove
from fairswap.platform.referring import in_its_reference
from fairswap.platform.refitting import refitted
from fairswap.platform.rules import Platform, kept_of_face
from fairswap.platform.skeleton import Rebuilt, moved_to_rebuilt, rebuilt
from fairswap.platform.standing import planted_without_toes
from fairswap.platform.textures import fitted_textures
from fairswap.pose.choice import pose_named
from fairswap.pose.rest import rest_pose_of
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.setting import clips_on_rest, rest_skeleton, skeleton_resting_in, skin_difference, with_rest
from fairswap.retarget.record import fitted_record
from fairswap.wording import counted, listed

_REST_SLACK_DEGREES = 1.0


class Origin(NamedTuple):
    """A clip as it came, with its figure, and what it is now: one clip, or several where it was too long."""

    rigged: RiggedFigure
    clip: Clip
    parts: tuple[Clip, ...]


@dataclass(frozen=True, eq=False)
class Fitted:
    """A figure that fits, its clips, what was changed, what could not be, and the proof that it looks the same.

    The proofs compare vertex by vertex; what fewer triangles cost is in ``reduced``, if there are fewer.

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
    rigged: RiggedFigure = field(repr=False)
    reduced: Reduced | None = field(default=None, repr=False)
    origins: tuple[Origin, ...] = field(default=(), repr=False)

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
        counts = f"{counted(len(self.changes), 'change')}, {counted(len(self.clips), 'clip')}"
        return f"<Fitted {self.figure.name!r} for {self.platform.name}: {counts}>"

    def _repr_html_(self) -> str:
        rows = [(row.rule, row.what, row.cost) for row in self.changes]
        return html_table(f"{self.figure.name} for {self.platform.name}", ("rule", "what was changed", "cost"), rows)


@dataclass(frozen=True, eq=False)
class Prepared:
    """A figure made to fit: ``original`` is it as it came, in the rest pose that is wanted; ``made`` what became of it.

    ``charted`` is there where its morphs were made anew; ``bare`` says that it lost them.
    """

    source: RiggedFigure
    platform: Platform
    original: Figure
    rest_changed: str
    charted: Charted | None
    bare: bool
    made: Rebuilt
    target: RiggedFigure
    changes: tuple[Change, ...]
    findings: tuple[Finding, ...]
    reel_proof: Proof | None

    def with_clips(self, clips: Sequence[Clip]) -> Fitted:
        """The figure with clips of it, each as the platform wants it."""
        platform, new = self.platform, self.target.figure
        before = self.source.figure
        rested = clips_on_rest(clips, before.skeleton, self.original.skeleton)
        changes, findings = list(self.changes), list(self.findings)
        if self.rest_changed:
            mean, _ = skin_difference(before, clips, self.original, rested)
            changes.insert(0, Change("figure.rest_pose", self.rest_changed, f"skin {mean:.2f} mm mean", mean))
        carried = []
        for clip in rested:
            moved, lost = self._with_face(clip, moved_to_rebuilt(self._faced(clip), self.made))
            moved = planted_without_toes(clip, RiggedFigure(self.original, self.source.roles, clip), moved, self.target)
            carried.append(replace(moved, made=fitted_record(clip, self.source, self.rigged)))
            findings += lost
        proof = prove(self.original, rested, new, carried, self.source.roles) if clips else None
        if self.charted is not None:
            findings += [row for clip in rested for row in self.charted.told(clip)]
        origins: list[Origin] = []
        for clip, came in zip(carried, clips, strict=True):
            parts, told = fitted_clip(clip, self.target, platform.clip)
            # On the new skeleton all travel is on the hips at first, wherever it was.
            stays = travel_of(came, self.source) == platform.clip.travel
            changes += [row for row in told if row.rule != "clip.travel" or not stays]
            parts = [_with_keys(part, self.target, platform, changes, findings) for part in parts]
            origins.append(Origin(self.source, came, tuple(parts)))
        fitted = [part for origin in origins for part in origin.parts]
        for clip in fitted:
            if platform.clip.with_mesh == "never":
                findings += morphs_left_out(clip, f"{platform.name} takes motions without a mesh")
        findings += _too_much(new, platform)
        return Fitted(new, tuple(fitted), tuple(changes), tuple(findings), proof, self.reel_proof, self.source.roles,
                      platform, self.rigged, origins=tuple(origins))  # fmt: skip

    @cached_property
    def rigged(self) -> RiggedFigure:
        """The figure that was made, in the reference pose that it had before: one measure for what it does and did."""
        return in_its_reference(self.source, self.original.skeleton, self.made, self.target)

    @cached_property
    def _lost_face_bones(self) -> LostFaceBones:
        head = Head(self.target.figure, self.target.roles)
        return LostFaceBones.of(self.original, self.source.roles, self.made, head)

    def _with_face(self, clip: Clip, fitted: Clip) -> tuple[Clip, list[Finding]]:
        """A fitted clip whose morphs do what bones of the face did that are gone; and what is lost of its face."""
        if self.charted is not None:
            return fitted, []
        meshes, tracks = self.original.meshes, clip.poses.morph_tracks
        off = (np.abs(row.weights - meshes[row.mesh].resting_weights[:, None]).max(initial=0.0) for row in tracks)
        if self.bare and any(most > 1e-3 for most in off):
            return fitted, [face_left_out(clip, f"{self.platform.name} takes no morphs")]
        return self._lost_face_bones.done_by_morphs(clip, fitted)

    def _faced(self, clip: Clip) -> Clip:
        if self.bare:
            return clip.with_poses(replace(clip.poses, morph_tracks=()), kept=clip.kept)
        return clip if self.charted is None else self.charted.clip(clip)


def prepare(source: RiggedFigure, platform: Platform, clips: Sequence[Clip] = ()) -> Prepared:
    """A figure as a platform wants it. ``clips`` are of it, and help to know its face.

    In order: rest pose, morphs, skeleton, influences, textures, bone boxes.
    """
    changes: list[Change] = []
    findings = skin_told(source.figure, source.roles) + levels_told(source.figure)
    roles = source.roles
    original, rest_changed = _rested(source, platform)
    rested = clips_on_rest(clips, source.skeleton, original.skeleton)
    if rest_changed:
        shown = (body_reel(source, 10)[0], *clips)
        same = clips_on_rest(shown, source.skeleton, original.skeleton)
        original = refitted((source.figure, shown), (original, same))
    figure, charted, bare = _with_morphs(original, roles, rested, platform, changes, findings)
    rules = platform.figure
    if charted is not None and rules.morphs != "chart" and rules.face_bones == "all":
        # What the bones of its face did, morphs do now.
        rules = msgspec.structs.replace(rules, face_bones="eyes")
    made = rebuilt(figure, roles, platform.profile, rules)
    _tell_bones(figure, made, platform, changes)
    new = made.figure
    reel, _ = body_reel(RiggedFigure(original, roles, source.clip), 10)
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
        kib = f"{a.bytes / 1024:.0f} to {b.bytes / 1024:.0f} KiB"
        changes.append(Change("figure.textures", what, kib, a.bytes - b.bytes))
    if rules.bone_boxes == "stated":
        new = replace(new, bone_boxes=new.skin_boxes)
        made = replace(made, figure=new)
        count = np.isfinite(new.skin_boxes[:, 0, 0]).sum()
        changes.append(Change("figure.bone_boxes", f"the bounds of the skin of {counted(count, 'bone')} stated"))
    target = RiggedFigure.of(new, bones=platform.profile, part="target")
    if ".vrm" in platform.file.formats:
        made = replace(made, figure=new)
        new = as_avatar(made, target.roles, tuple(rested), changes, findings)
        target, made = replace(target, figure=new), replace(made, figure=new)
    reel_proof = prove(original, [reel], new, [new_reel], roles)
    return Prepared(
        source, platform, original, rest_changed, charted, bare, made, target, tuple(changes), tuple(findings),
        reel_proof,
    )  # fmt: skip


def _too_much(figure: Figure, platform: Platform) -> list[Finding]:
    """What of its meshes is still more than the platform allows."""
    findings = []
    limits = (
        ("max_vertices", sum(len(mesh.vertices) for mesh in figure.meshes)),
        ("max_triangles", sum(len(mesh.triangles) for mesh in figure.meshes)),
        ("max_materials", number_of_materials(figure)),
    )
    for rule, count in limits:
        limit = getattr(platform.figure, rule)
        if limit is not None and count > limit:
            message = f"{count} {rule.removeprefix('max_')}, {limit} are allowed"
            remedy = "No more of it can be merged here: mend it where it was made"
            findings.append(Finding(f"figure.{rule}", "problem", figure.name, message, remedy))
    return findings


def _rested(source: RiggedFigure, platform: Platform) -> tuple[Figure, str]:
    """The figure resting as the platform wants, its meshes bound to that rest; and how it was changed, in words."""
    figure, rules = source.figure, platform.figure
    skeleton, into = figure.skeleton, str(rules.rest_pose)
    found = rest_pose_of(figure, source.roles)
    wanted = 0.0 if into == "T" else rules.arm_degrees
    if into != "any" and not (found.stands_even and abs(found.arm_degrees - wanted) <= _REST_SLACK_DEGREES):
        skeleton = skeleton_resting_in(source, pose_named("t" if into == "T" else f"a:{wanted:g}"))
    elif source.base.resting is not None:  # it rests in mid-motion; its meshes are bound to its rest from now on
        skeleton = rest_skeleton(source, np.ascontiguousarray(source.base.world.rotations[0]))
        into = source.base.said
    rested = with_rest(figure, (), skeleton, skin="bind")
    if skeleton == figure.skeleton:
        return rested.figure, ""
    degrees = max(rested.moved_degrees.values(), default=0.0)
    return rested.figure, f"rest pose to {into}: bones turned by up to {degrees:.0f} degrees"


def _with_morphs(
    figure: Figure,
    roles: RoleMap,
    clips: Sequence[Clip],
    platform: Platform,
    changes: list[Change],
    findings: list[Finding],
) -> tuple[Figure, Charted | None, bool]:
    """The figure with the morphs that the platform wants; how its clips drive them, and whether it has none now."""
    rules = platform.figure
    morphs = sum(len(mesh.morph_names) for mesh in figure.meshes)
    if rules.morphs == "none" and morphs:
        changes.append(Change("figure.morphs", f"{counted(morphs, 'morph')} dropped"))
        return without_morphs(figure), None, True
    chart = platform.face if rules.morphs == "chart" else None
    if chart is None and not morphs and ".vrm" in platform.file.formats:
        chart = expressions_chart()  # expressions are of morphs there: a face of bones gets those that it can show
    # Without its bones, a face that has no morphs is dead: it gets those that its bones can show.
    of_bones = chart is None and not morphs and rules.morphs == "any" and rules.face_bones != "all"
    as_they_are = (chart is None and not of_bones) or (chart is not None and morphs and same_morphs(figure, chart))
    if as_they_are or not figure.meshes:
        return figure, None, False
    head = Head(figure, roles, clips=tuple(clips))
    if not head.chart.columns:
        return figure, None, False
    made = posed_morphs(head, kept_of_face(rules)) if chart is None else charted_morphs(head, chart)
    if made is None:
        return figure, None, False
    for row in made.morphs:
        if row.lost >= 0.9:
            findings.append(Finding("morph-lost", "warning", row.name, f"the face has nothing to make {row.name!r} of"))
        else:
            what = f"{row.name!r} made of {', '.join(map(repr, row.made_of[:3]))}"
            lost = row.lost if row.lost > 0.02 else 0.0
            changes.append(Change("figure.morphs", what, f"{100 * lost:.0f} % of it missing" if lost else "", lost))
    beside = shapes_beside(head)
    if beside:
        changes.append(Change("figure.morphs", f"left out, as no part of a face: {listed(map(repr, beside))}"))
    return made.figure, made, False


def _tell_bones(figure: Figure, made: Rebuilt, platform: Platform, changes: list[Change]) -> None:
    old, new = figure.skeleton, made.figure.skeleton
    renamed = sum(bone.name != old.names[bone.first] for bone in made.bones if bone.first == bone.second)
    if renamed:
        changes.append(Change("bones", f"{counted(renamed, 'bone')} called as in {platform.profile.name}"))
    if made.added:
        changes.append(Change("figure.required", f"put in: {', '.join(made.added)}"))
    if made.merged:
        changes.append(Change("figure.max_bones", f"merged into what carries them: {listed(made.merged)}"))
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
        changes.append(Change("clip.keys", f"{clip.name}: keys thinned", f"{off:.2f} mm at worst", off))
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
