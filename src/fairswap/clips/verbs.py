"""What can be done with clips, as the command line names it; each operation lives in a file of its own.

A verb takes clips and gives new ones. Where feet or sides matter it wants to know ``on`` whom: a rigged figure, or
whatever holds one.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.clips.blending import blended
from fairswap.clips.cleaning import Cleaned, Fault, cleaned, find_faults
from fairswap.clips.cutting import Cuts, Piece, cut_into, piece_from_text, pieces_from_table
from fairswap.clips.describing import ClipDescription, described
from fairswap.clips.joining import joined
from fairswap.clips.key_reduction import Thinned, with_fewest_keys
from fairswap.clips.looping import Cycle, Loop, closed, find_cycles, seam_after
from fairswap.clips.mirroring import mirrored
from fairswap.clips.placing import placed, placed_after
from fairswap.clips.renaming import renamed
from fairswap.clips.resampling import at_rate
from fairswap.clips.spans import span_of
from fairswap.clips.taking import of_clips
from fairswap.clips.tempo import at_speed, lasting, reversed_clip
from fairswap.clips.times import frame_at, seconds_from_text
from fairswap.clips.trimming import without_idle_ends
from fairswap.errors import UsageError
from fairswap.measure.contacts import contacts_of
from fairswap.measure.soles import soles_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.rate import rate_from_text_per_second
from fairswap.pose.rigged import RiggedFigure, rigged_if_known
from fairswap.retarget.layers import Layers, layers_named, with_layers

On = RiggedFigure | Figure | Document | str | Path


@of_clips
def cut(take: Clip, pieces: Iterable[Piece | str] | Path) -> Cuts:
    """Cut one take into named clips.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> [clip.name for clip in cut(take, ["turn=0..0.9", "tilt=1..1.9"]).clips]
    ['turn', 'tilt']

    Parameters
    ----------
    pieces : iterable of ``"name=start..end"``, or the path of a table with columns name, start, end
        Times are seconds, frames (``45f``) or minutes and seconds (``1:02.5``).

    Raises
    ------
    UsageError
        For a piece that ends before it begins, or lies outside of the take.
    InputError
        With the line of a table that is wrong.
    """
    if isinstance(pieces, Path):
        pieces = pieces_from_table(pieces)
    return cut_into(take, [piece_from_text(p) if isinstance(p, str) else p for p in pieces])


@of_clips
def rename(clips: Sequence[Clip], to: str | None = None, *, swaps: Sequence[tuple[str, str]] = ()) -> list[Clip]:
    """Give clips other names, no two alike.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> [clip.name for clip in rename([take, take], "{name} {n}")]
    ['Reel 1', 'Reel 2']

    Parameters
    ----------
    to : str, optional
        A pattern: ``{name}``, ``{n}`` and ``{seconds}`` stand for what they say.
    swaps : sequence of (old, new)
        Parts of names exchanged.

    Raises
    ------
    UsageError
        If the pattern is none.
    """
    return renamed(clips, to=to, swaps=swaps)


@of_clips
def trim(clip: Clip, *, start: str | None = None, end: str | None = None, margin_s: float = 0.1) -> Clip:
    """Take off what comes before the first motion and after the last; or what is outside of ``start`` and ``end``.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> trim(take, start="1", end="90f").duration_s
    2.0

    Raises
    ------
    UsageError
        If a time is not in the clip, or the end is before the start.
    """
    if start is None and end is None:
        return without_idle_ends(clip, margin_s)[0]
    first = frame_at(clip, start, "the start") if start else 0
    last = frame_at(clip, end, "the end") if end else clip.frames - 1
    if last <= first:
        raise UsageError(f"the end {end} is before the start {start}")
    return span_of(clip, first, last)


@of_clips
def cycles(take: Clip, count: int = 3) -> list[Cycle]:
    """The parts of a take that repeat, best first.

    >>> import fairswap
    >>> len(fairswap.clips.cycles(fairswap.demo_motion("walk").clips[0], 2))
    2

    Raises
    ------
    ImpossibleError
        If nothing in it repeats.
    """
    return find_cycles(take, count)


@of_clips
def loop(take: Clip, *, pick: int = 1, blend_s: float = 0.2, travel: str = "kept") -> Loop:
    """Find the part of a take that repeats, and make a clip of it that loops and begins at the origin.

    >>> import fairswap
    >>> fairswap.clips.loop(fairswap.demo_motion("walk").clips[0], travel="removed")
    <Loop: <Clip 'Walk': 35 frames at 30, 1.13 s, 79 bones>, 3 cycles found>

    Parameters
    ----------
    pick : int
        The how-manieth best cycle, from 1.
    blend_s : float
        Seconds over which the seam is closed.
    travel : str
        ``kept``, ``removed``, or made ``whole``: straight, without turning.

    Raises
    ------
    ImpossibleError
        If nothing in it repeats.
    UsageError
        If there are fewer cycles than ``pick``.
    """
    found = find_cycles(take, max(3, pick))
    if not 1 <= pick <= len(found):
        raise UsageError(f"there are {len(found)} cycles, not {pick}")
    cycle = found[pick - 1]
    result = placed(replace(closed(take, cycle, blend_s, travel), name=take.name), facing_degrees=None)
    return Loop(result, tuple(found), seam_after(result, take, cycle))


@of_clips
def join(
    clips: Sequence[Clip], on: On, *, bones: BoneProfile | str | Path | None = None, blend_s: float = 0.3,
    match: bool = False, name: str = "",
) -> Clip:  # fmt: skip
    """Join clips, each beginning where the last one ended; standing feet stay.

    >>> import fairswap
    >>> idle = fairswap.demo_motion("idle")
    >>> fairswap.clips.join([*idle.clips, *idle.clips], idle, name="Idle twice")
    <Clip 'Idle twice': 472 frames at 30, 15.70 s, 79 bones>

    Parameters
    ----------
    match : bool
        Blend where the two fit best: a walk into a run, foot on foot.

    Raises
    ------
    UsageError
        If there are fewer than two clips, they move other bones, or the blend is longer than one of them.
    """
    rigged = RiggedFigure.of(on, bones=bones, clip=clips[0] if clips else None)
    return joined(rigged, clips, blend_s, match=match, name=name).clip


@of_clips
def blend(
    base: Clip, over: Clip, on: On, *parts: str, start: str | None = None, end: str | None = None, ease_s: float = 0.25,
    bones: BoneProfile | str | Path | None = None,
) -> Clip:  # fmt: skip
    """Lay parts of one clip over another: the arms of ``over``, say, over a walk.

    >>> import fairswap
    >>> walk, clap = (fairswap.demo_motion(act).clips[0] for act in ("walk", "clap"))
    >>> blend(walk, clap, fairswap.demo_motion("walk"), "arms", start="1", end="3").frames == walk.frames
    True

    Parameters
    ----------
    parts : str
        ``upper``, ``lower``, ``trunk``, ``head``, ``face``, ``arms``, ``hands``, ``legs``; ``arms:left`` is one side
        alone. With the legs ground travel comes along.
    start, end : str, optional
        Where in ``base``; without, from its start, for as long as ``over`` lasts.
    ease_s : float
        How long the parts take to come and to go.

    Raises
    ------
    UsageError
        For a part that is none, clips of other bones, or times that are not in the clips.
    """
    rate = float(base.rate)
    first = seconds_from_text(start, rate) if start else 0.0
    last = seconds_from_text(end, rate) if end else None
    return blended(RiggedFigure.of(on, bones=bones, clip=base), base, over, parts, first, last, ease_s)


@of_clips
def layer(clip: Clip, on: On, *files: Layers | str | Path, bones: BoneProfile | str | Path | None = None) -> Clip:
    """Put layers (corrections by role, see docs/motion.md) on a clip, on the figure that it moves.

    >>> import fairswap
    >>> found = fairswap.reel(fairswap.demo_file("pip.glb"))
    >>> layer(found.clip, found.rigged) is found.clip  # none
    True

    Raises
    ------
    InputError
        If a file of layers cannot be read.
    ImpossibleError
        If the figure has no bone for a role.
    """
    return with_layers(RiggedFigure.of(on, bones=bones), clip, [layers_named(file) for file in files])


@of_clips
def mirror(clip: Clip, on: On, *, bones: BoneProfile | str | Path | None = None) -> Clip:
    """Left for right: the same motion in a mirror, on the same figure.

    >>> import fairswap
    >>> found = fairswap.reel(fairswap.demo_file("pip.glb"))
    >>> mirror(found.clip, found.rigged).frames == found.clip.frames
    True
    """
    return mirrored(RiggedFigure.of(on, bones=bones), clip)


@of_clips
def speed(clip: Clip, factor: float | None = None, *, lasts: str | None = None) -> Clip:
    """Play a clip ``factor`` times as fast, or so that it lasts a time; its rate stays.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> speed(take, lasts="10").duration_s
    10.0

    Raises
    ------
    UsageError
        If there is neither, or both, or one is not a number above zero.
    """
    if (factor is None) == (lasts is None):
        raise UsageError("give a factor, or a time that it lasts")
    if factor is not None:
        return at_speed(clip, factor)
    return lasting(clip, seconds_from_text(str(lasts), float(clip.rate)))


@of_clips
def reverse(clip: Clip) -> Clip:
    """Play a clip backward.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> bool((reverse(take).rotations[0] == take.rotations[-1]).all())
    True
    """
    return reversed_clip(clip)


@of_clips
def place(
    clip: Clip, at: tuple[float, float] = (0.0, 0.0), *, facing_degrees: float | None = 0.0, after: Clip | None = None
) -> Clip:
    """Let a clip begin at a place (metres to the left, and ahead) and heading on the floor; None leaves the heading.

    With ``after`` it begins where that clip ends, and faces as that does then.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> place(take, (2.0, 0.0)).world().positions[0, 0].round(3).tolist()[0]
    2.0
    """
    return placed(clip, at, facing_degrees) if after is None else placed_after(clip, after)


@of_clips
def rate(clip: Clip, to: Fraction | int | float | str, *, smooth: bool = False, steady: bool = False) -> Clip:
    """Resample a clip; first and last pose and the duration are kept.

    >>> import fairswap
    >>> take = fairswap.reel(fairswap.demo_file("pip.glb")).clip
    >>> rate(take, "29.97").rate
    Fraction(30000, 1001)

    Parameters
    ----------
    to : Fraction, number or str
        Frames per second: 30, ``"29.97"`` (which means 30000/1001), ``"30000/1001"``.
    smooth, steady : bool
        Going up: curves through the frames. Going down: smooth away what would flicker.

    Raises
    ------
    UsageError
        If it is no rate above zero.
    """
    wanted = Fraction(to) if isinstance(to, Fraction | int) else rate_from_text_per_second(str(to))
    return at_rate(clip, wanted, smooth=smooth, steady=steady)


@of_clips
def thin(
    clip: Clip, *, mm: float | None = None, degrees: float | None = None, on: On | None = None,
    bones: BoneProfile | str | Path | None = None,
) -> Thinned:  # fmt: skip
    """Keep the fewest keys within a budget, checked over all frames; standing feet stay within a millimetre.

    >>> import fairswap
    >>> fairswap.clips.thin(fairswap.demo_motion("walk").clips[0], mm=1.0).worst_mm <= 1.0
    True

    Parameters
    ----------
    mm, degrees : float
        How far any bone may be off in the world, or its own turn. Exactly one of them.
    on : optional
        The figure, so that standing feet are known; one whose bones are not known does not matter.

    Raises
    ------
    UsageError
        If there is no budget, or two.
    """
    rigged = None if on is None else rigged_if_known(on, bones=bones)
    if rigged is None:
        return with_fewest_keys(clip, degrees=degrees, millimetres=mm)
    feet = {side: sole.foot for side, sole in soles_of(rigged).items()}
    contacts = contacts_of(rigged, clip)
    return with_fewest_keys(clip, degrees=degrees, millimetres=mm, contacts=contacts, feet=feet)


@of_clips
def faults(clip: Clip) -> list[Fault]:
    """Faults of recorded motion, told with bone and frame: lead-in, spikes, flips, jitter.

    >>> import fairswap
    >>> [fault.kind for fault in fairswap.clips.faults(fairswap.demo_motion("walk").clips[0])]
    ['jitter']
    """
    return find_faults(clip)


@of_clips
def clean(clip: Clip, *, jitter: bool = False) -> Cleaned:
    """Mend spikes and flips (and jitter, if wanted), and take off a rest pose before the motion.

    >>> import fairswap
    >>> fairswap.clips.clean(fairswap.demo_motion("clap").clips[0]).faults
    ()
    """
    found = find_faults(clip)
    mended = [fault for fault in found if jitter or fault.kind != "jitter"]
    return Cleaned(cleaned(clip, mended) if mended else clip, tuple(found))


@of_clips
def describe(clip: Clip, on: On | None = None, *, bones: BoneProfile | str | Path | None = None) -> ClipDescription:
    """What is in a clip: bones keyed and their range, travel, speed, stillness, and when feet stand.

    >>> import fairswap
    >>> found = fairswap.reel(fairswap.demo_file("pip.glb"))
    >>> describe(found.clip, found.rigged).travel_m
    0.0
    """
    return described(clip, None if on is None else rigged_if_known(on, bones=bones))
