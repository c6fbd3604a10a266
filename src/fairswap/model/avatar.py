"""What a file says of a figure as somebody's avatar: who made it and what may be done with it, expressions, gaze,
what swings.

As the avatar standard VRM 1.0 has it, but by bones and meshes of the figure, so that it goes along with them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any


@dataclass(frozen=True)
class Expression:
    """One expression: what it does at its full, and what it keeps others from.

    Attributes
    ----------
    preset : bool
        Whether its name is one of the standard's.
    morphs : tuple of (mesh, morph, weight)
    colors : tuple of (mesh, run of triangles, kind, (r, g, b, a))
        Colours of materials, by the run that has them.
    textures : tuple of (mesh, run of triangles, scale, offset)
    binary : bool
        Whether it is either off or full.
    overrides : mapping of ``blink``, ``lookAt``, ``mouth`` to ``none``, ``block``, ``blend``
    """

    preset: bool
    morphs: tuple[tuple[int, str, float], ...] = ()
    colors: tuple[tuple[int, int, str, tuple[float, ...]], ...] = ()
    textures: tuple[tuple[int, int, tuple[float, ...], tuple[float, ...]], ...] = ()
    binary: bool = False
    overrides: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Swinging:
    """A row of bones that swings: for each its stiffness, gravity and so on, in the words of the standard."""

    name: str
    joints: tuple[tuple[int, Mapping[str, Any]], ...]
    groups: tuple[int, ...] = ()
    center: int | None = None


@dataclass(frozen=True, eq=False)
class Avatar:
    """Everything an avatar standard says of a figure.

    Attributes
    ----------
    edition : str
        Of the standard that the file was in: ``1.0``, or ``0.x``, whose terms of use are in other words.
    meta : mapping
        Name, authors, licence and what may be done with it, in the words of the standard.
    thumbnail : bytes or None
        Its picture.
    expressions : mapping of name to Expression
    look_at : mapping or None
        How it looks at things, in the words of the standard.
    first_person : mapping of mesh to word
        Which meshes its wearer sees.
    colliders : tuple of (bone, shape)
        What swinging bones are kept out of.
    groups : tuple of (name, colliders)
    swinging : tuple of Swinging
    constraints : mapping of bone to (kind, bone, words)
        Bones that follow others.
    controls : mapping of expression to bone
        In a motion without a face: the bone whose place, along its left, is how much of the expression there is.
    """

    edition: str = "1.0"
    meta: Mapping[str, Any] = field(default_factory=dict)
    thumbnail: bytes | None = None
    expressions: Mapping[str, Expression] = field(default_factory=dict)
    look_at: Mapping[str, Any] | None = None
    first_person: Mapping[int, str] = field(default_factory=dict)
    colliders: tuple[tuple[int, Mapping[str, Any]], ...] = ()
    groups: tuple[tuple[str, tuple[int, ...]], ...] = ()
    swinging: tuple[Swinging, ...] = ()
    constraints: Mapping[int, tuple[str, int, Mapping[str, Any]]] = field(default_factory=dict)
    controls: Mapping[str, int] = field(default_factory=dict)

    def on_meshes(self, number_of: Mapping[int, int]) -> Avatar:
        """The same for other meshes: ``number_of`` gives the new number of each that is still there. What expressions
        do to those that are gone goes with them; an expression that does nothing more is one no longer."""

        def those(rows: tuple[tuple[Any, ...], ...]) -> tuple[tuple[Any, ...], ...]:
            return tuple((number_of[mesh], *more) for mesh, *more in rows if mesh in number_of)

        expressions = {
            name: replace(one, morphs=those(one.morphs), colors=those(one.colors), textures=those(one.textures))
            for name, one in self.expressions.items()
        }
        did = {name: bool(one.morphs or one.colors or one.textures) for name, one in self.expressions.items()}
        return replace(
            self,
            expressions={
                name: one
                for name, one in expressions.items()
                if not did[name] or one.morphs or one.colors or one.textures
            },
            first_person={number_of[mesh]: word for mesh, word in self.first_person.items() if mesh in number_of},
        )

    def on_bones(self, number_of: Mapping[int, int]) -> Avatar:
        """The same on other bones: ``number_of`` gives the new number of each that is still there.

        Rows of swinging bones are kept as far as all their bones are; colliders and constraints of bones that are gone
        go with them.
        """
        kept = [index for index, (bone, _) in enumerate(self.colliders) if bone in number_of]
        new = {old: index for index, old in enumerate(kept)}
        swinging = []
        for row in self.swinging:
            joints: list[tuple[int, Mapping[str, Any]]] = []
            for bone, words in row.joints:
                if bone not in number_of:
                    break
                joints.append((number_of[bone], words))
            if len(joints) > 1:
                center = number_of.get(row.center) if row.center is not None else None
                swinging.append(replace(row, joints=tuple(joints), center=center))
        return replace(
            self,
            colliders=tuple((number_of[self.colliders[index][0]], self.colliders[index][1]) for index in kept),
            groups=tuple((name, tuple(new[one] for one in own if one in new)) for name, own in self.groups),
            swinging=tuple(swinging),
            constraints={
                number_of[bone]: (kind, number_of[source], words)
                for bone, (kind, source, words) in self.constraints.items()
                if bone in number_of and source in number_of
            },
            controls={name: number_of[bone] for name, bone in self.controls.items() if bone in number_of},
        )
