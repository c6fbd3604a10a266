"""What follows after rotations were carried over: feet, hands, travel, in this order, each told apart."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.body.contacts import Contacts, Floor, find_contacts, foot_tracks
from fairswap.body.feet import Planted, plant_feet, raise_hips
from fairswap.body.finish import Finish
from fairswap.body.hands import Touch, clear_arms, meet_hands
from fairswap.body.layers import apply_layers
from fairswap.body.limb import ChainWorld
from fairswap.body.soles import Sole
from fairswap.body.subject import Subject
from fairswap.body.travel import travel_on_root, travel_taken_out
from fairswap.clip import Clip, Poses
from fairswap.errors import Finding, ImpossibleError

Soles = Mapping[str, Sole]


@dataclass(frozen=True, eq=False)
class Carried:
    """A clip carried over.

    Attributes
    ----------
    clip : Clip
        The result.
    contacts : Contacts or None
        When the source's feet stand, and on which floor.
    planted : Planted or None
        What planting the feet did.
    touches : tuple of Touch
        What the hands met.
    findings : tuple of Finding
    """

    clip: Clip
    contacts: Contacts | None = None
    planted: Planted | None = None
    touches: tuple[Touch, ...] = ()
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
    """Finish a clip that was carried over: ``plain`` from ``original``, in the same frames; its tracks are changed."""
    findings: list[Finding] = []
    contacts = contacts_of(source, original, soles[0])
    findings += _floor_findings(source, contacts, original)
    layered = apply_layers(target, plain, finish.layers) if finish.layers else plain
    poses = layered.poses
    tracks = poses.rotation_tracks
    places = {bone: poses.translation_track(bone) for bone in poses.translated_bones.tolist()}
    chain = ChainWorld(target.skeleton, tracks, places)
    _take_out_floor(source, target, original, contacts, chain)
    planted = None
    if finish.feet == "planted":
        if any(contacts.stands(side).any() for side in ("left", "right")):
            planted = plant_feet(target, soles[1], contacts, float(plain.rate), chain)
        else:
            message = "no foot ever stands in it, so none was planted"
            findings.append(Finding("no-contact", "note", plain.name, message))
    touches: list[Touch] = []
    if finish.hands == "meet":
        theirs = {bone: original.poses.translation_track(bone) for bone in original.poses.translated_bones.tolist()}
        source_chain = ChainWorld(source.skeleton, original.poses.rotation_tracks, theirs)
        touches = meet_hands(source, target, source_chain, chain, float(plain.rate), scale, finish)
    if finish.clear:
        clear_arms(target, chain, float(plain.rate))
    if finish.travel == "root":
        travel_on_root(target, _root_of(target), float(plain.rate), chain, finish.root_turns)
    elif finish.travel == "none":
        travel_taken_out(target, float(plain.rate), chain)
    keyed = layered.keyed | frozenset(places)
    moved = np.array(sorted(places), dtype=np.intp)
    new = Poses(target.skeleton, tracks, moved, np.stack([places[bone] for bone in moved.tolist()]), poses.morph_tracks)
    return Carried(replace(plain, poses=new, keyed=keyed), contacts, planted, tuple(touches), tuple(findings))


def _floor_findings(source: Subject, contacts: Contacts, clip: Clip) -> list[Finding]:
    floor = contacts.floor
    off = floor.at - source.floor_m
    if off == 0.0 and floor.tilt_degrees == 0.0:
        return []
    tilt = f" and tilted by {floor.tilt_degrees:.1f} degrees" if floor.tilt_degrees else ""
    message = (
        f"the floor its feet stand on is {100 * off:+.1f} cm off{tilt}; taken out, so that the result stands level"
    )
    return [Finding("floor-off", "note", clip.name, message)]


def _take_out_floor(source: Subject, target: Subject, clip: Clip, contacts: Contacts, chain: ChainWorld) -> None:
    """Bring the hips down (or up) by what the source's floor is off, where they are."""
    if contacts.floor == Floor(source.floor_m):
        return
    hips = source.roles.bones["hips"]
    places = {bone: clip.poses.translation_track(bone) for bone in clip.poses.translated_bones.tolist()}
    above = ChainWorld(source.skeleton, clip.poses.rotation_tracks, places).position(hips)
    off = contacts.floor.height(above) - source.floor_m
    raise_hips(target.roles.bones["hips"], -off * target.reference.leg_m / source.reference.leg_m, chain)


def _root_of(target: Subject) -> int:
    """The bone that takes the travel: the root, or the topmost one above the hips.

    Raises
    ------
    ImpossibleError
        If there is none.
    """
    if "root" in target.roles.bones:
        return target.roles.bones["root"]
    above = target.skeleton.with_ancestors([target.roles.bones["hips"]])[:-1]
    if not above:
        problem = f"{target.title} has no bone above its hips to put the travel on"
        raise ImpossibleError(problem, remedy="Add one with figures.root.document_with_root, as 'convert' does")
    return above[0]


def contacts_of(side: Subject, clip: Clip, soles: Soles) -> Contacts:
    """When the feet of a figure stand in a clip."""
    poses = clip.poses
    places = {bone: poses.translation_track(bone) for bone in poses.translated_bones.tolist()}
    chain = ChainWorld(side.skeleton, poses.rotation_tracks, places)
    feet = {
        name: foot_tracks(sole, chain.rotation(sole.foot), chain.position(sole.foot)) for name, sole in soles.items()
    }
    return find_contacts(feet, float(clip.rate), side.reference.leg_m, side.floor_m)
