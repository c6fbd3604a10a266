"""Rig a mesh: places from its shape, a skeleton through them, weights around it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from pathlib import Path

import numpy as np

from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import SIDES, side_of
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.figures.rigging.finding import GIVEN, Place
from fairswap.figures.rigging.fingers import digits_of
from fairswap.figures.rigging.landmarks import Landmarks, in_our_space, in_the_files_space
from fairswap.figures.rigging.places import find_places
from fairswap.figures.rigging.reading import FINENESS, ShapeReading
from fairswap.figures.rigging.shape import Shape, stance_of
from fairswap.figures.rigging.skeletons import Bones, bones_of_figure, bones_of_profile
from fairswap.figures.rigging.solid import Solid, rows_used
from fairswap.figures.rigging.weights import weights_of
from fairswap.formats.files import document_of
from fairswap.formats.gltf.bare import bare_figure, on_one_bone, stood_up
from fairswap.formats.gltf.container import Container
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.skinning import as_resting, inverse_rest_matrices
from fairswap.model.space import OURS, Space
from fairswap.pose.rigged import RiggedFigure

# How much worse other places get by a place that is wrong: what hangs on it.
_BEARING = {
    "upper_arm": 3.0,
    "upper_leg": 3.0,
    "hand": 2.0,
    "head": 2.0,
    "foot": 2.0,
    "lower_arm": 1.0,
    "lower_leg": 1.0,
}
_SURE = 0.75
# What is given may lie this far outside of the mesh, in heights.
_OUTSIDE = 0.15
# Sides no further apart than this, of the height on average, are mirror images.
_ALIKE = 0.006
# Closed shells alone are taken for the body if they are as tall as this, of the whole.
_WHOLE = 0.9


@dataclass(frozen=True, eq=False)
class Rigged:
    """A mesh that has got a skeleton and skin weights.

    >>> import fairswap
    >>> fairswap.rig(fairswap.demo_file("pip.glb")).places["head"].found_by
    'where the neck widens into the head'

    Attributes
    ----------
    figure : Figure
    roles : mapping of role to bone index
    places : mapping of str to Place
        Where each joint, and each end of a limb, was found or said to be; metres, in our space.
    space : Space
        How the mesh stood in its file.
    to_ours : (3, 3) array
        The turn and the scale that brought it from there to where it stands now.
    findings : tuple of Finding
    """

    figure: Figure
    roles: Mapping[str, int]
    places: Mapping[str, Place]
    space: Space
    to_ours: Floats
    findings: tuple[Finding, ...]

    def __repr__(self) -> str:
        return f"<Rigged {self.figure.name!r}: {len(self.roles)} roles, {len(self.figure.skeleton)} bones>"

    @property
    def would_help(self) -> tuple[str, ...]:
        """The few places that, given by hand, would help most: unsure ones on which others hang; best first."""
        doubts: dict[str, float] = {}
        for role, place in self.places.items():
            side = side_of(role)
            bearing = _BEARING.get(role.removesuffix(f"_{side}"), 0.0)
            if place.certainty < _SURE and bearing:
                name = role if side != "right" else role.replace("right", "left")
                doubts[name] = max(doubts.get(name, 0.0), (1.0 - place.certainty) * bearing)
        return tuple(sorted(doubts, key=lambda role: (-doubts[role], role))[:4])

    def landmarks(self) -> Landmarks:
        """The places as a file that can be corrected by hand."""
        own = {role: place for role, place in self.places.items() if not _mirrored(role, self.places)}
        at = in_the_files_space({role: place.position for role, place in own.items()}, self.to_ours)
        remarks = {role: f"{place.certainty:.2f} sure: {place.found_by}" for role, place in own.items()}
        return Landmarks(self.figure.name, at, True, remarks)


def rig(
    what: Document | Figure | str | Path,
    *,
    skeleton: BoneProfile | RiggedFigure | Figure | str | Path = "vrm-1",
    landmarks: Landmarks | Mapping[str, Sequence[float]] | str | Path | None = None,
    ends: bool = False,
    hard: Sequence[str] = (),
    up: str | None = None,
    forward: str | None = None,
    unit: str | None = None,
) -> Rigged:
    """Give a mesh a skeleton and skin weights.

    Parameters
    ----------
    what : path, Document or Figure
        A humanoid mesh of one piece or many, standing in a T, an A, or with the arms down. If it has a skeleton,
        that is left aside.
    skeleton : BoneProfile, name, file, or a figure
        Whose bones it gets: those a profile names, unturned; or those of a figure, names and axes kept.
    landmarks : Landmarks, mapping, or file
        Places that are known, by role, in the coordinates of the mesh's file; all others are found from the shape.
    ends : bool
        Mark where the last bones end by bones of their own.
    hard : sequence of str
        Meshes, by name or pattern (``boot*``), whose pieces do not bend.
    up, forward, unit : str
        How it stands, and what it is measured in, if that is found wrongly: ``"+Z"``, ``"-Y"``, ``"cm"``.

    >>> import fairswap
    >>> fairswap.rig(fairswap.demo_file("pip.glb"))
    <Rigged 'Pip': 34 roles, 34 bones>

    Raises
    ------
    ImpossibleError
        If there is no mesh, or it is not the shape of a person; it says what is missing.
    UsageError
        If a place lies outside of the mesh, or no mesh is called so.
    """
    document = document_of(what)
    bare, findings = _bare(document)
    said, pattern = _landmarks(landmarks), _pattern(skeleton)
    shape, firsts = _shape(bare)
    stiff = _hard_vertices(bare, firsts, hard)
    stance = stance_of(shape, bare.name, up, forward, unit)
    findings += stance.findings
    bare = stood_up(bare, stance.to_ours)
    shape = shape.in_our_space(stance.to_ours)
    given = in_our_space(said, stance.to_ours)
    _check_given(given, shape)
    solid, places = _read(shape, given, said.mirror, stance.unlike < _ALIKE)
    places |= _fingers(shape, places, given)
    at = {role: place.position for role, place in places.items()}
    bones = _bones(pattern, at, ends, bare.name)
    weighted = weights_of(shape, solid, bones, stiff)
    binds = inverse_rest_matrices(bones.skeleton)
    meshes = [
        replace(
            mesh, joints=weighted.joints[first : first + len(mesh.vertices)],
            weights=weighted.weights[first : first + len(mesh.vertices)], bind_matrices=binds, skinned=True,
        )
        for mesh, first in zip(bare.meshes, firsts, strict=True)
    ]  # fmt: skip
    findings += bones.findings
    pieces = (
        (weighted.hard, "hard, go as one piece with one bone"),
        (weighted.worn, "worn over the skin, move as it does"),
    )
    for count, words in pieces:
        if count:
            findings.append(Finding("pieces-apart", "note", bare.name, f"{count} pieces are {words}"))
    findings += _doubts(places, bare.name)
    figure = Figure(bare.name, bones.skeleton, tuple(meshes), OURS, known_roles=dict(bones.roles.bones))
    return Rigged(figure, bones.roles.bones, places, stance.space, stance.to_ours, tuple(findings))


def _bare(document: Document) -> tuple[Figure, list[Finding]]:
    """The meshes alone: of what is no figure, or of a figure without its bones."""
    findings = list(document.findings)
    if document.figures and document.figure.meshes:
        figure = document.figure
        message = f"it has a skeleton of {len(figure.skeleton)} bones already, which is left aside"
        findings.append(Finding("rigged-already", "note", figure.name, message))
        return _unboned(figure), findings
    if isinstance(document.origin, Container):
        found = bare_figure(document.origin)
        if found is not None:
            return found[0], findings + found[1]
    raise ImpossibleError("there is no mesh in it", file=document.file, remedy="Give a file with a body: glTF, OBJ, …")


def _unboned(figure: Figure) -> Figure:
    """A figure's meshes as they rest."""
    meshes = []
    for mesh in figure.meshes:
        count = len(mesh.vertices)
        flat = replace(as_resting(mesh, figure.skeleton), joints=np.zeros((count, 1), dtype=np.intp),
                       weights=np.ones((count, 1)), bind_matrices=np.eye(4)[None], skinned=False)  # fmt: skip
        meshes.append(flat)
    return on_one_bone(figure.name, meshes)


def _landmarks(said: Landmarks | Mapping[str, Sequence[float]] | str | Path | None) -> Landmarks:
    if said is None:
        return Landmarks("", {})
    if isinstance(said, Landmarks):
        return said
    return (
        Landmarks("", {r: np.array(v) for r, v in said.items()}) if isinstance(said, Mapping) else Landmarks.load(said)
    )


def _shape(bare: Figure) -> tuple[Shape, list[int]]:
    """All meshes as one shape, and where the vertices of each begin."""
    firsts = np.concatenate([[0], np.cumsum([len(mesh.vertices) for mesh in bare.meshes])]).tolist()
    triangles = [mesh.triangles + first for mesh, first in zip(bare.meshes, firsts, strict=False)]
    return Shape.of(np.concatenate([mesh.vertices for mesh in bare.meshes]), np.concatenate(triangles)), firsts[:-1]


def _check_given(given: Mapping[str, Floats], shape: Shape) -> None:
    low, high = bounds_of(shape.used)
    room = _OUTSIDE * float(high[1] - low[1])
    for role, at in given.items():
        if (at < low - room).any() or (at > high + room).any():
            box = " to ".join(f"({', '.join(f'{x:.2f}' for x in corner.tolist())})" for corner in (low, high))
            raise UsageError(
                f"the place given for {role} lies outside of the mesh, which reaches from {box} m",
                remedy="Give x, y, z in the coordinates and the unit of the mesh's own file",
            )


def _read(shape: Shape, given: dict[str, Floats], mirror: bool, alike: bool) -> tuple[Solid, dict[str, Place]]:
    """The body's solid and its places: of its closed shells alone where those are a whole body, else of all."""
    height = float(np.ptp(shape.used[:, 1]))
    closed = shape.of_shells(shape.closed)
    choices = [shape.triangles]
    if 0 < len(closed) < len(shape.triangles) and np.ptp(shape.vertices[closed].reshape(-1, 3)[:, 1]) > _WHOLE * height:
        choices.insert(0, closed)
    for last, triangles in zip([False] * (len(choices) - 1) + [True], choices, strict=True):
        solid = Solid.of(shape.vertices, triangles, height / FINENESS)
        if not len(solid):
            if last:
                raise ImpossibleError("nothing is inside of it: it is open everywhere", code="no-body-shape")
            continue
        reading = ShapeReading(solid.largest_piece(), shape.vertices[rows_used(triangles, len(shape.vertices))])
        try:
            known = _both_sides(given, reading.middle) if mirror else given
            return reading.solid, find_places(reading, known, alike)
        except ImpossibleError:
            if last:
                raise
    raise AssertionError("the last choice returns or raises")


def _both_sides(given: Mapping[str, Floats], middle: float) -> dict[str, Floats]:
    """What is given of one side stands for the other, where that has none."""
    out = dict(given)
    for role, at in given.items():
        for side, other in (SIDES, SIDES[::-1]):
            twin = f"{role.removesuffix(side)}{other}"
            if role.endswith(f"_{side}") and twin not in given:
                out[twin] = np.array([2.0 * middle - at[0], at[1], at[2]])
    return out


def _fingers(shape: Shape, places: Mapping[str, Place], given: Mapping[str, Floats]) -> dict[str, Place]:
    out: dict[str, Place] = {}
    for side in SIDES:
        hand, tip = places[f"hand_{side}"].position, places[f"hand_tip_{side}"].position
        for digit in digits_of(shape, hand, tip):
            for role, at in digit.joints(side).items():
                sure = role in given
                out[role] = Place(
                    role, given[role] if sure else at, 1.0 if sure else 0.7, GIVEN if sure else "its finger"
                )
    for role, at in given.items():
        if role not in places and role not in out:
            out[role] = Place(role, at, 1.0, GIVEN)
    return out


def _pattern(skeleton: BoneProfile | RiggedFigure | Figure | str | Path) -> BoneProfile | RiggedFigure:
    """Whose bones it gets: a profile, by name or file, too; or a figure, or its file."""
    if isinstance(skeleton, BoneProfile):
        return skeleton
    if isinstance(skeleton, RiggedFigure | Figure):
        return RiggedFigure.of(skeleton)
    path = Path(skeleton)
    if path.is_file() and path.suffix.lower() != ".toml":
        return RiggedFigure.of(path)
    return profile_named(skeleton)


def _bones(pattern: BoneProfile | RiggedFigure, at: Mapping[str, Floats], ends: bool, name: str) -> Bones:
    if isinstance(pattern, BoneProfile):
        return bones_of_profile(pattern, at, ends, name)
    return bones_of_figure(pattern, at, ends, name)


def _hard_vertices(bare: Figure, firsts: Sequence[int], patterns: Sequence[str]) -> np.ndarray | None:
    if not patterns:
        return None
    out = np.zeros(sum(len(mesh.vertices) for mesh in bare.meshes), dtype=bool)
    for pattern in patterns:
        fitting = [i for i, mesh in enumerate(bare.meshes) if fnmatchcase(mesh.name, pattern)]
        if not fitting:
            known = ", ".join(repr(mesh.name) for mesh in bare.meshes[:8])
            raise UsageError(f"no mesh is called {pattern!r}", remedy=f"It has {known}")
        for i in fitting:
            out[firsts[i] : firsts[i] + len(bare.meshes[i].vertices)] = True
    return out


def _doubts(places: Mapping[str, Place], name: str) -> list[Finding]:
    unsure = [role for role, place in places.items() if place.certainty < 0.5]
    if not unsure:
        return []
    message = f"the shape hardly tells where these are: {', '.join(unsure[:8])}{' …' if len(unsure) > 8 else ''}"
    return [Finding("places-unsure", "warning", name, message)]


def _mirrored(role: str, places: Mapping[str, Place]) -> bool:
    """Whether a place of the right side is the mirror image of the left one."""
    if not role.endswith("_right"):
        return False
    twin = places.get(role.replace("_right", "_left"))
    if twin is None:
        return False
    middle = places["hips"].position[0]
    image = np.array([2.0 * middle - twin.position[0], *twin.position[1:]])
    return bool(np.linalg.norm(image - places[role].position) < 1e-4)
