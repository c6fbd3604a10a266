"""What follows after rotations were carried over: feet, hands, travel, in this order, each told apart."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.body.contacts import Contacts, find_contacts, foot_tracks
from fairswap.body.feet import Planted, plant_feet
from fairswap.body.finish import Finish
from fairswap.body.limb import ChainWorld
from fairswap.body.soles import Sole
from fairswap.body.subject import Subject
from fairswap.clip import Clip, Poses
from fairswap.errors import Finding

Soles = Mapping[str, Sole]


@dataclass(frozen=True, eq=False)
class Carried:
    """A clip carried over.

    Attributes
    ----------
    clip : Clip
        The result.
    plain : Clip
        The same as carried over, before feet and hands.
    contacts : Contacts or None
        When the source's feet stand, and on which floor.
    planted : Planted or None
        What planting the feet did.
    findings : tuple of Finding
    """

    clip: Clip
    plain: Clip
    contacts: Contacts | None = None
    planted: Planted | None = None
    findings: tuple[Finding, ...] = ()


def finished(
    source: Subject,
    target: Subject,
    original: Clip,
    plain: Clip,
    finish: Finish,
    scale: float,
    soles: tuple[Soles, Soles],
) -> Carried:
    """Finish a clip that was carried over: ``plain`` from ``original``, in the same frames."""
    findings: list[Finding] = []
    contacts = contacts_of(source, original, soles[0])
    poses = plain.poses
    tracks = poses.rotation_tracks.copy()
    places = {bone: poses.translation_track(bone).copy() for bone in poses.translated_bones.tolist()}
    chain = ChainWorld(target.skeleton, tracks, places)
    planted = None
    if finish.feet == "planted":
        if any(contacts.stands(side).any() for side in ("left", "right")):
            planted = plant_feet(target, soles[1], contacts, float(plain.rate), chain)
        else:
            message = "no foot ever stands in it, so none was planted"
            findings.append(Finding("no-contact", "note", plain.name, message))
    moved = np.array(sorted(places), dtype=np.intp)
    new = Poses(target.skeleton, tracks, moved, np.stack([places[bone] for bone in moved.tolist()]), poses.morph_tracks)
    return Carried(replace(plain, poses=new), plain, contacts, planted, tuple(findings))


def contacts_of(side: Subject, clip: Clip, soles: Soles) -> Contacts:
    """When the feet of a figure stand in a clip."""
    poses = clip.poses
    places = {bone: poses.translation_track(bone) for bone in poses.translated_bones.tolist()}
    chain = ChainWorld(side.skeleton, poses.rotation_tracks, places)
    feet = {
        name: foot_tracks(sole, chain.rotation(sole.foot), chain.position(sole.foot)) for name, sole in soles.items()
    }
    return find_contacts(feet, float(clip.rate), side.reference.leg_m, side.floor_m)
