"""The rest poses that files come in, for the bodies of the troupe; and the files that go with them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

import fairswap
from fairswap.bones.roles import FINGERS
from fairswap.demo.acts import perform
from fairswap.demo.anatomy import Body, body_of
from fairswap.model.rotation import IDENTITY, multiply, normalized, quaternion_between, quaternion_from_axis_angle
from fairswap.model.skeleton import Skeleton

X, Y, Z = np.eye(3)


def turn(axis, degrees):
    return quaternion_from_axis_angle(axis, np.radians(degrees))


def _arms(degrees):
    return {f"upper_arm_{side}": turn(Z, sign * degrees) for side, sign in (("left", 1.0), ("right", -1.0))}


def _bent_elbows():
    return {f"lower_arm_{side}": turn(Y, -sign * 30.0) for side, sign in (("left", 1.0), ("right", -1.0))}


def _closed_hands():
    turns = {}
    for side, sign in (("left", 1.0), ("right", -1.0)):
        for finger in FINGERS:
            bent = IDENTITY
            for part in ("proximal", "intermediate", "distal"):
                bent = multiply(bent, turn(Z, -sign * 45.0))
                turns[f"{finger}_{part}_{side}"] = bent
        bent = IDENTITY
        for part in ("proximal", "distal"):
            bent = multiply(bent, turn([0.35, 0.9 * sign, -0.2 * sign], 30.0))
            turns[f"thumb_{part}_{side}"] = bent
    return turns


RESTS = {
    "T": {},
    "A 45": _arms(-45.0),
    "A 60": _arms(-60.0),
    "arms down 85": _arms(-85.0),
    "one arm up": {"upper_arm_left": turn(Z, 80.0)},
    "bent elbows 30": _bent_elbows(),
    "hands half closed": _closed_hands(),
    "on its back": {"whole": turn(X, -90.0)},
    "facing -Z": {"whole": turn(Y, 180.0)},
    "in line": None,
}


def resting(body: Body, name: str) -> Skeleton:
    """The skeleton of a body with one of the rest poses."""
    turns = RESTS[name]
    if turns is None:
        return in_line(body)
    if "whole" in turns:
        turns = {body.bones[0]: turns["whole"]}
    return body.skeleton({role: rotation[None] for role, rotation in turns.items()})


def in_line(body: Body) -> Skeleton:
    """All limbs straight up: each bone turned so that the next one of its limb stands above it."""
    places, parents = body.local_places(), np.array(body.parents)
    world = np.tile(IDENTITY, (len(parents), 1))
    for bone in range(len(parents)):
        children = np.flatnonzero(parents == bone)
        middle = [c for c in children if "middle_proximal" in body.bones[c]]
        if len(children) and parents[bone] >= 0 and body.bones[bone] != "hips":
            world[bone] = quaternion_between(places[(middle or list(children))[0]], Y)
    local = world.copy()
    inner = parents >= 0
    local[inner] = multiply(world[parents[inner]] * [-1, -1, -1, 1], world[inner])
    ends = frozenset(i for i, bone in enumerate(body.bones) if bone.endswith(" end"))
    return Skeleton(body.names, parents, normalized(local), places, ends)


def family_file(performer: str, rest: str, act) -> Path:
    """A file of bones alone that rests so and performs an act."""
    body = body_of(performer)
    skeleton = resting(body, rest)
    # However it rests, it dances as if it rested in the T: upright, on the floor.
    clip = perform(act, body, body.skeleton({}))
    clip = replace(clip, poses=replace(clip.poses, skeleton=skeleton))
    path = Path(f"{performer}-{rest}-{act.name}.{'bvh' if rest == 'in line' else 'glb'}".replace(" ", "_"))
    if not path.exists():
        fairswap.save(path, fairswap.Figure(performer, skeleton), [clip])
    return path
