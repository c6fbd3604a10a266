"""What a figure and its clips have that a format cannot hold: told, with figures, before anybody misses it."""

from __future__ import annotations

from collections.abc import Sequence

from fairswap.errors import Finding, Severity
from fairswap.formats.gltf.materials import maps_of
from fairswap.formats.scene.binding import rebound_error_m
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material
from fairswap.wording import counted


def losses(
    figure: Figure, clips: Sequence[Clip], format: str, *, meshes: bool = True, morphs: bool = True,
    colors: bool = False, sizes: bool = False, one_bind: bool = False, rigid: bool = False,
    maps: bool = False,
) -> list[Finding]:  # fmt: skip
    """A finding for each kind of thing that stays behind; the flags say what the format holds."""
    gone: list[str] = []
    known: list[str] = []  # what everybody who asks for such a file knows
    if not meshes and figure.meshes:
        known.append(counted(len(figure.meshes), "mesh with its materials", "meshes with their materials"))
    if not morphs:
        count = sum(len(mesh.morph_names) for mesh in figure.meshes)
        gone += [counted(count, "morph")] if count else []
    elif not meshes:
        moving = sum(len(clip.poses.morph_tracks) for clip in clips)
        gone += [f"the face tracks of {counted(moving, 'mesh', 'meshes')}"] if moving else []
    if meshes and not colors:
        painted = sum("COLOR_0" in mesh.more for mesh in figure.meshes)
        gone += [f"vertex colours of {counted(painted, 'mesh', 'meshes')}"] if painted else []
    if not sizes:
        stretched = {track.bone for clip in clips for track in clip.poses.stretches}
        gone += [f"the changing size of {counted(len(stretched), 'bone')}"] if stretched else []
    if meshes:
        plain = sum(_has_more_than_a_color(row, maps) for mesh in figure.meshes for row in mesh.materials)
        what = "extensions" if maps else "shine, bumps, glow and extensions"
        gone += [f"{what} of {counted(plain, 'material')} (colour, picture and opacity are kept)"] if plain else []
        more = sorted({name for mesh in figure.meshes for name in mesh.more} - {"COLOR_0"})
        gone += [f"what else is said of vertices: {', '.join(more[:4])}"] if more else []
    if one_bind and meshes:
        error = rebound_error_m(figure, rigid=rigid)
        if error > 1e-4:
            gone.append(f"more than one bind pose: the skin is up to {error * 1000:.1f} mm off at rest")
    if meshes and figure.avatar is not None and figure.avatar.meta:
        gone.append("what it says as an avatar: terms of use, expressions, gaze, what swings")
    beside = sum(len(clip.poses.beside) for clip in clips)
    gone += [f"{beside} tracks of props"] if beside else []
    rows: list[tuple[Severity, str]] = [("note", what) for what in known]
    rows += [("warning", what) for what in gone]
    return [Finding("format-leaves-out", grade, figure.name, f"{format} cannot hold {what}") for grade, what in rows]


def _has_more_than_a_color(material: Material, maps: bool) -> bool:
    """Whether the document of a material says more of it than its colour, picture and opacity, or than its ``maps``."""
    held = maps_of(material)
    if held is None or maps:
        return held is not None and held.more
    return bool(held.pictures) or any(held.glow) or held.metallic > 0.05 or held.more
