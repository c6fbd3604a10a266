"""Take stock of a document: what an artist wants to know of a file before doing anything with it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from fairswap.bones.apart import keys_apart
from fairswap.bones.assignment import roles_of
from fairswap.bones.profile import BoneProfile, broken_profiles, profile_named
from fairswap.bones.roles import RoleMap
from fairswap.bones.skin import skin_told
from fairswap.errors import Finding, ImpossibleError
from fairswap.formats.files import load
from fairswap.measure.lead_in import lead_in_told
from fairswap.measure.levels import levels_told
from fairswap.model.cards import html_card
from fairswap.model.clip import Clip
from fairswap.model.document import Document, Held
from fairswap.model.figure import Figure
from fairswap.pose.rest import RestPose, rest_pose_of
from fairswap.wording import counted


@dataclass(frozen=True)
class SpaceFacts:
    """Up, forward and unit of a file, and how tall its main figure is."""

    up: str
    forward: str
    unit: str
    height_m: float


@dataclass(frozen=True)
class FigureFacts:
    """One figure. ``profile`` says where the roles are known from, ``least_sure`` how sure the least sure one is."""

    name: str
    height_m: float
    bones: int
    end_bones: int
    profile: str | None
    least_sure: float | None
    roles: dict[str, str]
    meshes: int
    vertices: int
    max_influences: int
    morphs: tuple[str, ...]
    rest_pose: RestPose | None
    avatar: AvatarFacts | None = None
    each_mesh: tuple[MeshFacts, ...] = ()

    def __repr__(self) -> str:
        rest = "" if self.rest_pose is None else f", rests in {self.rest_pose.kind}"
        return f"<FigureFacts {self.name!r}: {self.height_m:.2f} m, {self.bones} bones, {len(self.roles)} roles{rest}>"


@dataclass(frozen=True)
class MeshFacts:
    """One mesh of a figure."""

    name: str
    triangles: int


@dataclass(frozen=True)
class AvatarFacts:
    """What a figure says of itself as an avatar: edition of the standard, name, authors, what is allowed to whom."""

    edition: str
    name: str
    authors: tuple[str, ...]
    permission: str
    expressions: tuple[str, ...]
    swinging_rows: int


@dataclass(frozen=True)
class ClipFacts:
    """One clip. ``rate_fraction`` is the exact rate, as ``30000/1001``."""

    name: str
    frames: int
    rate: float
    rate_fraction: str
    duration_s: float
    keyed_bones: int
    travel_m: float
    still: bool


@dataclass(frozen=True)
class Inventory:
    """What is in a file; ``beside`` is what is no figure: props, cameras, lights, further scenes."""

    file: str
    format: str
    space: SpaceFacts
    figures: tuple[FigureFacts, ...]
    clips: tuple[ClipFacts, ...]
    findings: tuple[Finding, ...] = field(default=(), repr=False)
    beside: tuple[Held, ...] = ()

    def __repr__(self) -> str:
        worst = [finding for finding in self.findings if finding.severity != "note"]
        held = f"{counted(len(self.figures), 'figure')}, {counted(len(self.clips), 'clip')}"
        counts = f"{held}, {counted(len(worst), 'doubt')}"
        return f"<Inventory of {Path(self.file).name!r}: {counts}>"

    def _repr_html_(self) -> str:
        rows = [("format", self.format), ("height", f"{self.space.height_m:.2f} m")]
        rows += [(f"figure {figure.name}", counted(figure.bones, "bone")) for figure in self.figures]
        rows += [(f"clip {clip.name}", f"{counted(clip.frames, 'frame')} at {clip.rate:g}") for clip in self.clips]
        rows += [(finding.severity, finding.message) for finding in self.findings]
        return html_card("File", self.file, rows)


def inspect(what: Document | str | Path, *, bones: BoneProfile | str | Path | None = None) -> Inventory:
    """Take stock of a file: figures, bones, space, rest pose, clips, and what is odd about them.

    >>> import fairswap
    >>> found = fairswap.inspect(fairswap.demo_file("pip.glb"))
    >>> found.figures[0].bones, found.figures[0].rest_pose
    (30, RestPose(kind='A', arm_degrees=45.0))

    Parameters
    ----------
    what : path or Document
    bones : BoneProfile, name or file, optional
        Which bone is which; without, it is found. Figures whose bones are not known are described without roles.

    Raises
    ------
    InputError
        If the file cannot be read.
    """
    document = what if isinstance(what, Document) else load(what)
    profile = None if bones is None else profile_named(bones)
    findings = list(document.findings) + broken_profiles()
    figures = tuple(_figure(document, figure, profile, findings) for figure in document.figures)
    clips = tuple(_clip(clip, findings) for clip in document.clips)
    if not figures:
        meshes = [row for row in document.held if row.triangles]
        message = "there is no figure in it: no skin, and no bones that move"
        if meshes:
            count = counted(len(meshes), "mesh", "meshes")
            triangles = sum(row.triangles for row in meshes)
            message = f"there is no figure in it: {count}, {counted(triangles, 'triangle')}, no bones"
        findings.append(Finding("no-figure", "problem", document.file, message))
    space = document.space
    height = document.figure.height_m if figures else 0.0
    facts = SpaceFacts(space.up, space.forward, space.unit, height)
    return Inventory(document.file, document.format, facts, figures, clips, tuple(findings), document.held)


def _avatar(figure: Figure) -> AvatarFacts | None:
    avatar = figure.avatar
    if avatar is None or not avatar.meta:
        return None
    meta = avatar.meta
    # Edition 0.x has other words for the same.
    authors = meta.get("authors") or [meta.get("author", "")]
    return AvatarFacts(
        avatar.edition, str(meta.get("name") or meta.get("title") or ""), tuple(str(one) for one in authors if one),
        str(meta.get("avatarPermission") or meta.get("allowedUserName") or "onlyAuthor"), tuple(avatar.expressions),
        len(avatar.swinging),
    )  # fmt: skip


def _figure(document: Document, figure: Figure, profile: BoneProfile | None, findings: list[Finding]) -> FigureFacts:
    try:
        roles = roles_of(figure, profile)
    except ImpossibleError as error:
        roles = RoleMap({}, "")
        findings.append(Finding("bones-unknown", "warning", figure.name, error.problem))
    findings += skin_told(figure, roles) + levels_told(figure) + _all_blended(figure)
    for clip in document.clips_of(figure):
        findings += keys_apart(figure, roles, clip)
    return FigureFacts(
        name=figure.name,
        height_m=figure.height_m,
        bones=figure.bone_count,
        end_bones=len(figure.skeleton.ends),
        profile=roles.profile or None,
        least_sure=min(roles.confidences.values(), default=None),
        roles={role: figure.skeleton.labels[roles.bones[role]] for role in roles.roles()},
        meshes=len(figure.meshes),
        vertices=sum(len(mesh.vertices) for mesh in figure.meshes),
        max_influences=figure.max_influences,
        morphs=tuple(name for mesh in figure.meshes for name in mesh.morph_names),
        rest_pose=rest_pose_of(figure, roles) if roles.bones else None,
        avatar=_avatar(figure),
        each_mesh=tuple(MeshFacts(mesh.name, len(mesh.triangles)) for mesh in figure.meshes),
    )


def _all_blended(figure: Figure) -> list[Finding]:
    """A warning where all of a body is set to be seen through, though none of it is: exporters do so by mistake."""
    materials = [material for mesh in figure.meshes for material in mesh.materials]
    if not materials or any(row.blending != "blend" or row.alpha < 0.99 for row in materials):
        return []
    message = "every material of it is blended, as glass is: hair and far limbs may be drawn over near ones"
    remedy = "Set what is not seen through to opaque, what has holes to mask"
    return [Finding("all-blended", "warning", figure.name, message, remedy)]


def _clip(clip: Clip, findings: list[Finding]) -> ClipFacts:
    if clip.still:
        message = "nothing moves in it: probably the rest pose, exported as a clip"
        findings.append(Finding("clip-still", "note", clip.name, message))
    findings += lead_in_told(clip)
    return ClipFacts(
        name=clip.name,
        frames=clip.frames,
        rate=float(clip.rate),
        rate_fraction=str(clip.rate),
        duration_s=clip.duration_s,
        keyed_bones=len(clip.keyed),
        travel_m=clip.travel_m,
        still=clip.still,
    )
