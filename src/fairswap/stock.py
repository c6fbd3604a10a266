"""Take stock of a document: what an artist wants to know of a file before doing anything with it."""

from __future__ import annotations

from typing import Any

from fairswap.body.swap import Swap
from fairswap.bones.known import roles_of
from fairswap.bones.profile import BoneProfile, built_in_profiles, saved_profiles
from fairswap.bones.roles import RoleMap, role_order
from fairswap.clip import Clip
from fairswap.document import Document
from fairswap.errors import Finding, ImpossibleError
from fairswap.figure import Figure
from fairswap.pose.rest import rest_pose_of


def stock_of(document: Document, profile: BoneProfile | None = None) -> dict[str, Any]:
    """The contents of a file as plain data: space, figures, clips, findings.

    Figures without a known bone profile are described without roles, with a finding that says what to do.
    """
    findings = list(document.findings)
    figures = [_figure(figure, profile, findings) for figure in document.figures]
    clips = [_clip(clip, findings) for clip in document.clips]
    space = document.space
    height = document.figure.height_m if document.figures else 0.0
    if not document.figures:
        message = "there is no figure in it: no skin, and no bones that move"
        findings.append(Finding("no-figure", "problem", document.file, message, "Export it with its skeleton"))
    return {
        "file": document.file,
        "format": document.format,
        "space": {"up": space.up, "forward": space.forward, "unit": space.unit, "height_m": round(height, 4)},
        "figures": figures,
        "clips": clips,
        "findings": [finding.as_dict() for finding in findings],
    }


def bones_of(figure: Figure, profile: BoneProfile | None = None) -> dict[str, Any]:
    """Which bone of a figure fills which role, which roles of its profile it lacks, and which bones are left over.

    Raises
    ------
    ImpossibleError
        If no profile fits.
    """
    roles = roles_of(figure, profile, what=f"figure {figure.name!r}", option="--bones")
    names, ends = figure.skeleton.names, figure.skeleton.ends
    used = set(roles.bones.values())
    known = profile or next((p for p in (*saved_profiles(), *built_in_profiles()) if p.name == roles.profile), None)
    return {
        "figure": figure.name,
        "profile": roles.profile,
        "roles": {role: names[roles.bones[role]] for role in roles.roles()},
        "confidences": dict(roles.confidences),
        "missing": [role for role in (known.roles if known else ()) if role not in roles.bones],
        "other": [name for bone, name in enumerate(names) if bone not in used and bone not in ends],
        "ends": [names[bone] for bone in sorted(ends)],
    }


def matching_of(swap: Swap) -> dict[str, Any]:
    """The pairing of two figures' bones as plain data: which bone, or which share between two, moves which."""
    source, target = swap.source.skeleton.names, swap.target.skeleton.names
    pairs = [
        {
            "role": pair.role,
            "from": f"{pair.share:.0%} from {source[pair.first]} to {source[pair.second]}"
            if pair.between and pair.share < 1.0
            else source[pair.first],
            "to": target[pair.target],
        }
        for pair in sorted(swap.pairs, key=lambda pair: role_order(pair.role))
    ]
    return {
        "bones_a": swap.source_side.roles.profile,
        "bones_b": swap.target_side.roles.profile,
        "pairs": pairs,
        "resting": swap.resting,
        "findings": [finding.as_dict() for finding in swap.findings],
    }


def _figure(figure: Figure, profile: BoneProfile | None, findings: list[Finding]) -> dict[str, Any]:
    try:
        roles = roles_of(figure, profile, what=f"figure {figure.name!r}", option="--bones")
    except ImpossibleError as error:
        roles = RoleMap({}, "")
        remedy = "Draft a profile ('fairswap bones draft FILE -o P.toml'), correct it, and pass it to convert"
        findings.append(Finding("bones-unknown", "warning", figure.name, error.problem, remedy))
    return {
        "name": figure.name,
        "height_m": round(figure.height_m, 4),
        "bones": len(figure.skeleton),
        "end_bones": len(figure.skeleton.ends),
        "profile": roles.profile or None,
        "least_sure": min(roles.confidences.values(), default=None),
        "roles": {role: figure.skeleton.names[roles.bones[role]] for role in roles.roles()},
        "meshes": len(figure.meshes),
        "vertices": sum(len(mesh.vertices) for mesh in figure.meshes),
        "influences_max": figure.influences_max,
        "morphs": [name for mesh in figure.meshes for name in mesh.morph_names],
        "rest_pose": rest_pose_of(figure, roles) if roles.bones else {"kind": "unknown", "arm_degrees": None},
    }


def _clip(clip: Clip, findings: list[Finding]) -> dict[str, Any]:
    if clip.still:
        message = "nothing moves in it: probably the rest pose, exported as a clip"
        findings.append(Finding("clip-still", "note", clip.name, message))
    return {
        "name": clip.name,
        "frames": clip.frames,
        "rate": round(float(clip.rate), 6),
        "rate_fraction": str(clip.rate),
        "duration_s": round(clip.duration_s, 6),
        "keyed_bones": len(clip.keyed),
        "travel_m": round(clip.travel_m, 4),
        "still": clip.still,
    }
