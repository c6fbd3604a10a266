"""Make a figure and its clips fit a platform: all that can be mended is mended, in order, and each change is told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from fairswap.bones.choice import with_one_person
from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.figures.avatars import as_said
from fairswap.figures.sizing import resize
from fairswap.formats.files import document_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.stand_ins import hung_for_good
from fairswap.platform.changes import Change
from fairswap.platform.meshes import lighter, with_fewer_materials
from fairswap.platform.preparing import Fitted, prepare
from fairswap.platform.rules import SAME_HEIGHT, Platform, platform_named
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import listed


def fit(
    what: Document | Figure | str | Path, platform: Platform | str | Path, *,
    bones: BoneProfile | str | Path | None = None, meta: str | Path | None = None, springs: bool = False,
    triangles: int | None = None, atlas: bool = False,
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
    meta : path, optional
        A file (``fairswap = "meta/1"``) that says who made it and what may be done with it, for avatars.
    springs : bool
        Whether its extra bones (skirts, tails, hair) swing, in formats that know such.
    triangles : int, optional
        No more triangles than this, whatever the platform allows.
    atlas : bool
        Merge materials and their pictures into one even if the platform allows as many.

    Raises
    ------
    ImpossibleError
        If the bones of the figure are not known.
    """
    document, rules = with_one_person(document_of(what)), platform_named(platform)
    joined: list[Change] = []
    if document.joined:
        joined.append(Change("figure.one_skeleton", f"{len(document.joined)} bones of a second one joined"))
    profile = None if bones is None else profile_named(bones)
    document = as_said(document, profile, meta, springs)
    figure, wanted = document.figure, rules.figure.height
    if wanted is not None and figure.meshes and abs(figure.height_m / wanted - 1.0) >= SAME_HEIGHT:
        joined.append(Change("figure.height", f"{figure.height_m:.2f} m tall to {wanted:.2f} m, with its clips"))
        document = resize(document, height_m=wanted)
        figure = document.figure
    done = fit_figure(figure, document.clips_of(figure), rules, profile, triangles, atlas)
    # A clip that starts late in the file starts at once here.
    own = [row for row in document.findings if row.code != "clip-starts-late"]
    told = (*own, *rules.findings, *document.left_standing(), *done.findings)
    return replace(done, changes=(*joined, *done.changes), findings=told)


def fit_figure(
    figure: Figure, clips: Sequence[Clip], platform: Platform, bones: BoneProfile | None = None,
    triangles: int | None = None, atlas: bool = False,
) -> Fitted:  # fmt: skip
    """A figure and its clips as a platform wants them.

    In order: triangles, materials, rest pose, morphs, skeleton, influences, textures; then each clip's travel, rate,
    places, length, name, keys and size.

    Raises
    ------
    ImpossibleError
        If the bones of the figure are not known.
    """
    moving = max(clips, key=lambda clip: clip.frames, default=None)
    # A platform has its own skeleton: limbs that hang beside the body in the file hang on it there.
    whole = hung_for_good(figure)
    hung = [] if whole is figure or figure.stand_ins is None else list(map(repr, figure.stand_ins.hung))
    put = [Change("figure.one_skeleton", f"{listed(hung, 4)} hung on the body")] if hung else []
    figure, fewer, made = lighter(whole, platform.figure, moving, triangles)
    figure, merged, apart = with_fewer_materials(figure, platform.figure, atlas)
    done = prepare(RiggedFigure.of(figure, bones=bones, clip=moving), platform, clips).with_clips(clips)
    changes, findings = (*put, *fewer, *merged, *done.changes), (*apart, *done.findings)
    return replace(done, changes=changes, findings=findings, reduced=made)
