"""How near a face is to its source's: by what both do to the places of a face, in units."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from fairswap.measure.comparison import Comparison, Motion
from fairswap.model.clip import Clip
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    from fairswap.face.transfer import FaceSwap

# A face that moves its places by less than this (of a face's size, root mean square) does nothing to speak of.
_NOTHING = 0.003


def may_move(clip: Clip, rigged: RiggedFigure) -> bool:
    """Whether anything may move in a face: morphs, or bones below the head."""
    poses = clip.poses
    if poses.morph_tracks:
        return True
    below = poses.skeleton.below(rigged.roles.bones["head"])
    if np.isin(poses.translated_bones, below).any():
        return True
    return bool(np.ptp(poses.rotation_tracks[below], axis=2).max(initial=0.0) > 1e-4)


def with_face_judged(found: Comparison, heads: FaceSwap, source: Clip, result: Clip) -> Comparison:
    """The comparison with the face in it: what share of the motion of its places is missed, or done too much."""
    # Faces are imported where one moves: most motions have none.
    from fairswap.face.anatomy import landmark_displacements

    if result.frames != source.frames or result.rate != source.rate:
        result = result.with_poses(result.at(np.arange(source.frames) / float(source.rate)), rate=source.rate)
    places = landmark_displacements()
    wanted, shown = places @ heads.source.units(source), places @ heads.target.units(result)
    size, off = (float(np.sqrt(np.mean(np.square(moved)))) for moved in (wanted, wanted - shown))
    return replace(found, face_missed=off / max(size, _NOTHING))


def heads_of(source: Motion, result: Motion) -> FaceSwap | None:
    """The heads of two figures made ready, if the source's face moves and the result has one; else None."""
    from fairswap.face.head import Head
    from fairswap.face.transfer import FaceSwap, needs_face

    if not may_move(source.clip, source.rigged):
        return None
    if not needs_face(source.rigged.figure, source.clip, source.rigged.roles, {}):
        return None
    swap = FaceSwap(Head(source.rigged.figure, source.rigged.roles, None, (source.clip,)),
                    Head(result.rigged.figure, result.rigged.roles))  # fmt: skip
    return swap if swap.target.chart.columns else None
