"""What the extensions of VRM 1.0 are made of: the kinds of their fields, for files of strangers to be held against.

Only the kinds; what the fields may say is in :mod:`fairswap.formats.vrm.rules`.
"""

from __future__ import annotations

from typing import Any, TypedDict


class Node(TypedDict, total=False):
    """What names a node."""

    node: int


class Humanoid(TypedDict, total=False):
    """Which node is which bone."""

    humanBones: dict[str, Node]


class MorphBind(TypedDict, total=False):
    """A morph that an expression drives."""

    node: int
    index: int
    weight: float


class ColorBind(TypedDict, total=False):
    """A colour that an expression changes."""

    material: int
    type: str
    targetValue: list[float]


class TextureBind(TypedDict, total=False):
    """Where an expression takes the textures of a material."""

    material: int
    scale: list[float]
    offset: list[float]


class Expression(TypedDict, total=False):
    """What one expression does."""

    morphTargetBinds: list[MorphBind]
    materialColorBinds: list[ColorBind]
    textureTransformBinds: list[TextureBind]
    isBinary: bool
    overrideBlink: str
    overrideLookAt: str
    overrideMouth: str


class Expressions(TypedDict, total=False):
    """All expressions."""

    preset: dict[str, Expression]
    custom: dict[str, Expression]


class RangeMap(TypedDict, total=False):
    """How far the eyes go for a gaze."""

    inputMaxValue: float
    outputScale: float


class LookAt(TypedDict, total=False):
    """How it looks at something."""

    type: str
    offsetFromHeadBone: list[float]
    rangeMapHorizontalInner: RangeMap
    rangeMapHorizontalOuter: RangeMap
    rangeMapVerticalDown: RangeMap
    rangeMapVerticalUp: RangeMap


class Annotation(TypedDict, total=False):
    """By whom a mesh is seen."""

    node: int
    type: str


class FirstPerson(TypedDict, total=False):
    """By whom meshes are seen."""

    meshAnnotations: list[Annotation]


class Avatar(TypedDict, total=False):
    """``VRMC_vrm``."""

    meta: dict[str, Any]
    humanoid: Humanoid
    expressions: Expressions
    lookAt: LookAt
    firstPerson: FirstPerson


class Collider(TypedDict, total=False):
    """What swinging bones do not go through."""

    node: int
    shape: dict[str, dict[str, Any]]


class ColliderGroup(TypedDict, total=False):
    """Colliders by their numbers."""

    colliders: list[int]


class Joint(TypedDict, total=False):
    """A bone that swings."""

    node: int
    hitRadius: float
    stiffness: float
    gravityPower: float
    gravityDir: list[float]
    dragForce: float


class Spring(TypedDict, total=False):
    """Bones that swing in a row."""

    joints: list[Joint]
    colliderGroups: list[int]


class Springs(TypedDict, total=False):
    """``VRMC_springBone``."""

    colliders: list[Collider]
    colliderGroups: list[ColliderGroup]
    springs: list[Spring]


class Following(TypedDict, total=False):
    """How a node follows another."""

    source: int
    rollAxis: str
    aimAxis: str
    weight: float


class Constraint(TypedDict, total=False):
    """``VRMC_node_constraint``."""

    constraint: dict[str, Following]


class MotionExpressions(TypedDict, total=False):
    """The nodes whose places are the expressions of a motion."""

    preset: dict[str, Node]
    custom: dict[str, Node]


class Motion(TypedDict, total=False):
    """``VRMC_vrm_animation``."""

    humanoid: Humanoid
    expressions: MotionExpressions
    lookAt: Node
