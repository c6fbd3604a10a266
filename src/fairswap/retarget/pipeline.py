"""A clip retargeted from one figure to another, stage by stage.

Transfer, layers, floor, feet, hands, arms out of the body, root motion: each stage takes the motion as far as it is,
changes it, and tells what it did. Options switch them on and off.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from fairswap.bones.apart import keys_apart
from fairswap.bones.roles import SIDES
from fairswap.errors import Finding, ImpossibleError
from fairswap.measure.contacts import FAR_OFF, Contacts, Floor, contacts_of
from fairswap.measure.cycles import continued, cycle_of
from fairswap.measure.soles import soles_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import PoseBuilder
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.bearing import move_hips
from fairswap.retarget.clearing import clear_limbs
from fairswap.retarget.extras import extras_lost, lost_extras, stretched_joints
from fairswap.retarget.feet import Planted, plant_feet
from fairswap.retarget.few_parts import lacks_feet, put_on_parts
from fairswap.retarget.hands import Touch, meet_hands
from fairswap.retarget.layers import layers_named, put_layers_on
from fairswap.retarget.limb_joints import keep_limb_joints
from fairswap.retarget.options import MotionOptions
from fairswap.retarget.root_motion import move_travel_to_root, take_travel_out
from fairswap.retarget.skin_above import take_skin_along
from fairswap.retarget.swap import Swap
from fairswap.retarget.sway import sway, swinging_bones
from fairswap.wording import listed

# Soles are the same whose heels and balls are nearer to each other than this, in legs.
_SAME_SOLE = 0.01


@dataclass(frozen=True, eq=False)
class Retargeted:
    """A clip retargeted, with what was found and done on the way.

    Attributes
    ----------
    clip : Clip
        The result.
    contacts : Contacts
        When the source's feet stand, and on which floor.
    planted : Planted or None
        What planting the feet did.
    touches : tuple of Touch
        What the hands met.
    findings : tuple of Finding
    travel_taken : (frames, 3) array or None
        Ground travel that was taken out, metres.
    """

    clip: Clip
    contacts: Contacts
    planted: Planted | None = None
    touches: tuple[Touch, ...] = ()
    findings: tuple[Finding, ...] = ()
    edit: PoseBuilder | None = field(default=None, repr=False)
    travel_taken: Floats | None = field(default=None, repr=False)

    @property
    def transferred(self) -> Clip:
        """The clip before layers, feet, hands and root motion."""
        return self.clip if self.edit is None else self.clip.with_poses(self.edit.first().poses())

    def __repr__(self) -> str:
        return f"<Retargeted {self.clip.name!r}: {self.clip.frames} frames, {len(self.touches)} touches>"


@dataclass(eq=False)
class _Motion:
    """The motion so far: its tracks as they are now, and what was told."""

    swap: Swap
    original: Clip
    options: MotionOptions
    edit: PoseBuilder
    chain: ChainWorld
    source_chain: ChainWorld
    contacts: Contacts
    keyed: frozenset[int]
    before: int = 0
    layered: frozenset[int] = frozenset()
    planted: Planted | None = None
    touches: list[Touch] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    @property
    def rate(self) -> float:
        return float(self.original.rate)

    def take_one_round(self, clip: Clip) -> None:
        """Leave off what was put before and after a cycle: ``clip`` is the round that counts."""
        if not self.before:
            return
        self.original, start_s = clip, self.before / self.rate
        span = slice(self.before, self.before + clip.frames)
        self.edit = self.edit.picked(span)
        self.chain, self.source_chain = ChainWorld(self.edit), ChainWorld(clip.poses)
        # When its feet stand is said as of any clip: the judge, who has the file alone, says so as well.
        self.contacts = contacts_of(self.swap.source, clip)
        if self.planted is not None:
            moved = {side: track[span] for side, track in self.planted.moved_m.items()}
            self.planted = Planted(moved, self.planted.hips_m[span])
        shifted = [replace(touch, start_s=max(touch.start_s - start_s, 0.0),
                           stop_s=min(touch.stop_s - start_s, clip.duration_s)) for touch in self.touches]  # fmt: skip
        self.touches = [touch for touch in shifted if touch.start_s < touch.stop_s]

    def clip(self) -> Clip:
        """The clip as it is now. Its tracks are frozen by it."""
        keyed = self.keyed | frozenset(self.edit.translations)
        return Clip(self.original.name, self.original.rate, self.edit.poses(), keyed, start_s=self.original.start_s)


Stage = Callable[[_Motion], None]


def retarget(swap: Swap, clip: Clip, options: MotionOptions | None = None) -> Retargeted:
    """Retarget one clip: same name, rate and duration, on the target's skeleton.

    Parameters
    ----------
    clip : Clip
        A clip of the source.
    options : MotionOptions, optional
        How feet, hands and root motion are treated; by default feet are planted and hands meet what they met.

    Raises
    ------
    UsageError
        If the clip does not move the source's skeleton.
    ImpossibleError
        If the target has no bone that the options need.
    """
    options = options or MotionOptions()
    motion = _begun(swap, clip, options)
    _put_layers_on(motion)
    same = swap.of_one_build
    if not same:
        keep_limb_joints(swap.target, motion.chain)
    if not _stands_as_it_stood(motion):
        for stage in (_take_floor_out, _keep_height, _plant_feet, _meet_hands):
            stage(motion)
    _clear_limbs(motion)
    chains = motion.source_chain, motion.chain
    put = (motion.layered or not same) and put_on_parts(swap.source, swap.target, *chains, motion.contacts, motion.rate)
    if put and motion.planted is not None:
        _plant_feet(motion)  # what moved the body moved them
    _let_sway(motion)
    motion.take_one_round(clip)
    taken = _move_root(motion)
    _take_skin_along(motion)
    motion.findings += extras_lost(clip.name, lost_extras(clip.poses, swap.source, swap.extras))
    motion.findings += keys_apart(swap.source.figure, swap.source.roles, clip)
    popped = stretched_joints(clip.poses, swap.source)
    if popped and not same:
        shown = ", ".join(f"{role} by {share:.0%} at {frame / motion.rate:.2f} s" for role, share, frame in popped[:4])
        message = f"joints come out of their places in it ({shown}): the result keeps its bones' lengths"
        motion.findings.append(Finding("joints-stretched", "warning", clip.name, message))
    result = motion.clip()
    done = tuple(motion.touches), tuple(motion.findings)
    return Retargeted(result, motion.contacts, motion.planted, *done, motion.edit, taken)


def _begun(swap: Swap, clip: Clip, options: MotionOptions) -> _Motion:
    """The motion transferred. Of a clip that starts over some of the rounds before it and after it are there too, so
    that its end is treated as its start is; an object that hands touch does not go along with them."""
    cycle, before = None if options.object else cycle_of(swap.source, clip), 0
    if cycle is not None:
        clip, before = continued(swap.source, clip, cycle)
    contacts = contacts_of(swap.source, clip)
    edit, keyed = swap.transferred_tracks(clip, options.scale_travel, contacts.floor)
    return _Motion(swap, clip, options, edit, ChainWorld(edit), ChainWorld(clip.poses), contacts, keyed, before)


def _put_layers_on(motion: _Motion) -> None:
    if motion.options.layers:
        layers = [*map(layers_named, motion.options.layers)]
        motion.layered = frozenset(put_layers_on(motion.swap.target, layers, motion.rate, motion.edit, motion.before))
        motion.keyed |= motion.layered


def _stands_as_it_stood(motion: _Motion) -> bool:
    """Whether feet and hands are where they were: on the same body, unless its way, its legs or its soles change."""
    bones = motion.swap.target.roles.bones
    feet = motion.swap.target.skeleton.with_ancestors([bones[f"foot_{side}"] for side in SIDES])
    same_way = motion.options.scale_travel in (None, 1.0)
    return motion.swap.of_one_build and same_way and not motion.layered & set(feet) and _on_the_same_soles(motion.swap)


def _on_the_same_soles(swap: Swap) -> bool:
    """Whether both roll over the same points; of bones alone nobody knows."""
    if not (swap.source.figure.meshes and swap.target.figure.meshes):
        return True
    soles = soles_of(swap.source), soles_of(swap.target)
    apart = [a - b for side in SIDES for a, b in ((soles[0][side].heel, soles[1][side].heel),
                                                  (soles[0][side].ball, soles[1][side].ball))]  # fmt: skip
    return float(np.linalg.norm(apart, axis=1).max()) < _SAME_SOLE * swap.target.reference.leg_m


def _take_floor_out(motion: _Motion) -> None:
    """Bring the hips down (or up) by what the floor of the source is off, where they are."""
    source, target, floor = motion.swap.source, motion.swap.target, motion.contacts.floor
    if floor == Floor(source.floor_m):
        return
    tilt = f" and tilted by {floor.tilt_degrees:.1f} degrees" if floor.tilt_degrees else ""
    high_cm = 100 * (floor.at - source.floor_m)
    message = f"the floor its feet stand on is {high_cm:+.1f} cm off{tilt}; taken out, so that the result stands level"
    if floor.at < source.floor_m - FAR_OFF * source.reference.leg_m:
        seen = f"all of it is {-high_cm:.0f} cm below the floor{tilt}, as if counted from the hips or from a saddle"
        message = f"{seen}; brought up to the floor"
    motion.findings.append(Finding("floor-off", "note", motion.original.name, message))
    off = floor.height(motion.source_chain.position(source.roles.bones["hips"])) - source.floor_m
    hips = target.roles.bones["hips"]
    move_hips(hips, -motion.swap.leg_ratio * off[:, None] * UP, motion.chain)


def _keep_height(motion: _Motion) -> None:
    """Where no foot ever stands, bring the lowest sole of the clip as near to the floor as the source's is: never
    deeper into it than that, nor other joints deeper than they were."""
    swap, floor = motion.swap, motion.contacts.floor
    saddle = floor.at < swap.source.floor_m - FAR_OFF * swap.source.reference.leg_m
    if motion.contacts.count() or not (saddle or motion.options.feet == "planted"):
        return
    was = [swap.leg_ratio * low for low in _lowest(swap.source, motion.source_chain, floor)]
    if saddle:
        was[0] = 0.0  # that floor was told by the lowest sole alone
    now = _lowest(swap.target, motion.chain, Floor(swap.target.floor_m))
    lift = float(np.clip(now[0], min(was[0], 0.0), max(was[0], 0.0))) - now[0]
    lift = max(lift, -max(now[1] - min(was[1], 0.0), 0.0))
    move_hips(swap.target.roles.bones["hips"], np.tile(lift * UP, (motion.chain.frames, 1)), motion.chain)


def _lowest(rigged: RiggedFigure, chain: ChainWorld, floor: Floor) -> tuple[float, float]:
    """How high over a floor the lowest point of the soles, and the lowest joint but those of the feet, ever are."""
    soles = [track for sole in soles_of(rigged).values() for track in sole.track_in(chain)]
    others = [bone for bone, role in rigged.role_of_bone.items() if not role.startswith(("foot", "toes", "root"))]
    heights = ([track[:, 1] - floor.height(track) for track in tracks]
               for tracks in (soles, [chain.position(bone) for bone in others]))  # fmt: skip
    soles_m, others_m = (float(np.min(rows)) for rows in heights)
    return soles_m, others_m


def _plant_feet(motion: _Motion) -> None:
    if motion.options.feet != "planted" or lacks_feet(motion.swap.target):
        return
    if any(motion.contacts.standing(side).any() for side in SIDES):
        motion.planted = plant_feet(
            motion.swap.target, motion.contacts, motion.rate, motion.chain, motion.swap.leg_ratio
        )
    else:
        message = "no foot ever stands in it: none was planted, and its lowest sole is as near to the floor as it was"
        motion.findings.append(Finding("no-contact", "note", motion.original.name, message))


def _meet_hands(motion: _Motion) -> None:
    if motion.options.hands == "meet":
        swap, options = motion.swap, motion.options
        scale = swap.leg_ratio if options.scale_travel is None else options.scale_travel
        chains = motion.source_chain, motion.chain
        floor = motion.contacts.floor
        motion.touches, stands = meet_hands(swap.source, swap.target, *chains, motion.rate, floor, scale, options)
        if stands is not None:
            x, y, z = stands.tolist()
            message = (
                f"the object {options.object!r} stands at {x:+.2f}, {y:.2f}, {z:+.2f} m (left, up, ahead) for this "
                "figure, where its own arms reach it"
            )
            motion.findings.append(Finding("object-placed", "note", motion.original.name, message))


def _clear_limbs(motion: _Motion) -> None:
    if motion.options.clear:
        swap = motion.swap
        clear_limbs(swap.source, swap.target, motion.source_chain, motion.chain, motion.contacts, motion.rate)


def _move_root(motion: _Motion) -> Floats | None:
    """Move the travel where it was asked to be; give what was taken out, ``(frames, 3)``."""
    target, options = motion.swap.target, motion.options
    if options.travel == "root":
        move_travel_to_root(target, _root_of(target), motion.rate, motion.chain, options.root_turns)
    elif options.travel == "none":
        return take_travel_out(target, motion.rate, motion.chain)
    return None


def _take_skin_along(motion: _Motion) -> None:
    target = motion.swap.target
    travels = _root_of(target) if motion.options.travel == "root" else None
    along = take_skin_along(target, motion.chain, travels)
    if along:
        motion.keyed |= frozenset(along)
        names = listed([target.skeleton.labels[bone] for bone in along])
        message = f"{names}, above the hips, {'holds' if len(along) == 1 else 'hold'} skin: taken along with the hips"
        motion.findings.append(Finding("skin-above-hips", "note", target.figure.name, message))


def _let_sway(motion: _Motion) -> None:
    if motion.options.sway:
        target = motion.swap.target
        bones = swinging_bones(target, motion.options.sway, motion.keyed)
        sway(target, bones, motion.rate, motion.chain)
        motion.keyed |= frozenset(bones)


def _root_of(target: RiggedFigure) -> int:
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
        raise ImpossibleError(problem, remedy="Use convert, which adds a root bone, or leave the travel on the hips")
    return above[0]
