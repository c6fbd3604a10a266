"""Skeletons: joints as nodes, with where they were bound and how they rest."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.usd.scene import Bones, Scene
from fairswap.formats.usd.values import matrices_of_joints, value_of

_AGAIN = "Export the file again"


def bones_of(scene: Scene, skeleton: Any, holder: int) -> Bones:
    """The joints of a skeleton as nodes below it."""
    from pxr import UsdSkel

    joints = [str(token) for token in value_of(skeleton.GetJointsAttr()) or ()]
    place = str(skeleton.GetPath())
    topology = UsdSkel.Topology(joints)
    valid, reason = topology.Validate()
    if not valid:
        raise InputError(f"its joints are no tree ({reason})", place=place, remedy=_AGAIN)
    parents = [int(topology.GetParent(index)) for index in range(len(joints))]
    names = list(value_of(skeleton.GetJointNamesAttr()) or ())
    if len(names) != len(joints):
        names = [joint.rpartition("/")[2] for joint in joints]
    binds = matrices_of_joints(value_of(skeleton.GetBindTransformsAttr()), len(joints), place)
    rest = matrices_of_joints(value_of(skeleton.GetRestTransformsAttr()), len(joints), place)
    if binds is None and rest is None:
        raise InputError("its joints have neither a bind nor a rest pose", place=place, remedy=_AGAIN)
    if rest is None and binds is not None:
        inverse = np.linalg.inv(binds)
        rest = np.stack([
            binds[at] if parent < 0 else inverse[parent] @ binds[at] for at, parent in enumerate(parents)
        ]) if joints else np.empty((0, 4, 4))  # fmt: skip
    assert rest is not None
    if binds is None:
        binds = rest.copy()
        for at, parent in enumerate(parents):
            if parent >= 0:
                binds[at] = binds[parent] @ rest[at]
    nodes: list[int] = []
    for at, parent in enumerate(parents):
        nodes.append(scene.builder.node(str(names[at]), nodes[parent] if parent >= 0 else holder, rest[at]))
    return Bones(joints, nodes, binds, rest)
