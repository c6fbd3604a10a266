"""What bones of a face do that no pose of its chart tells: it reaches no other face, so it is told."""

from __future__ import annotations

from collections.abc import Container

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.errors import Finding
from fairswap.face.bone_reading import read_in_bones
from fairswap.face.bones import called_of_a_face, face_bones
from fairswap.face.head import Head
from fairswap.face.neutral import seen_on
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.wording import listed

# A bone is told if what no pose tells goes so far, and is this part of all that it does then.
_DEGREES, _HEADS, _PART = 5.0, 0.03, 0.5


def unread_bones(head: Head, clip: Clip, shares: Floats, carried: Container[int] = ()) -> list[Finding]:
    """Tell which bones of a face, but for those ``carried`` otherwise, do in a clip what its chart has no pose for, by
    the ``shares`` of its ways ``(ways, frames)``.

    What a bone holds all the time does not count: many are left by their exporters as they happened to be.
    """
    if head.roles is None:
        return []
    eyes = {head.roles.bones.get(f"eye_{side}") for side in SIDES}
    bones = {
        name: bone
        for name, bone in face_bones(head.neutral.skeleton, head.roles, head.frame).items()
        if bone not in carried and bone not in eyes and (bone == head.jaw or called_of_a_face(name))
    }
    if not bones:
        return []
    told = []
    does, unread = read_in_bones(head.chart, seen_on(head.neutral, clip.poses), bones, head.frame, shares, head.jaw)
    kinds = ((slice(3, 6), _DEGREES, "turns by {:.0f}°"), (slice(0, 3), _HEADS, "shifts by {:.0%} of the head"))
    for number, name in enumerate(bones):
        for rows, least, words in kinds:
            far, whole = (np.linalg.norm(what[number, rows], axis=0) for what in (unread, does))
            changes = np.linalg.norm(np.ptp(unread[number, rows], axis=1))
            worst = int(np.argmax(far))
            if changes > least and far[worst] > max(least, _PART * whole[worst]):
                told.append(f"{name!r} {words.format(far[worst])} at {worst / float(clip.rate):.2f} s")
    if not told:
        return []
    message = f"bones of the face move as no shape of a face does; that is not carried over: {listed(told, 4)}"
    return [Finding("face-bones-unread", "warning", clip.name, message)]
