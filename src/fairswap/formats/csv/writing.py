"""From a clip to a table: a line for each frame, seven columns for each bone, the bones in comments on top."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence

import numpy as np

from fairswap.errors import Finding, UsageError
from fairswap.formats.naming import in_unicode, on_one_line, visible_in_json
from fairswap.formats.scene.losses import losses
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.space import Space

FIRST_LINE = '# fairswap = "motion/1"'
PARTS = ("x", "y", "z", "qx", "qy", "qz", "qw")


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, Iterator[bytes]]:
    """One clip as ``.csv``; see :func:`fairswap.formats.files.encode`. It is always in metres, +Y up, facing +Z."""
    if len(clips) != 1:
        raise UsageError(f"a table holds one clip, not {len(clips)}", code="one-clip-only")
    return {name: _lines(clips[0])}


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold."""
    return losses(figure, clips, "CSV", meshes=False)


def _lines(clip: Clip) -> Iterator[bytes]:
    skeleton = clip.skeleton
    title = json.dumps(in_unicode(clip.name))
    yield f"{FIRST_LINE}\n# clip = {title}\n# rate = {json.dumps(str(clip.rate))}\n".encode()
    for bone, name in enumerate(skeleton.names):
        row = {
            "name": in_unicode(name),
            "parent": int(skeleton.parents[bone]),
            "place": skeleton.rest_translations[bone].tolist(),
            "turn": skeleton.rest_rotations[bone].tolist(),
            "end": bone in skeleton.ends,
            "keyed": bone in clip.keyed,
        }
        yield f"# bone = {visible_in_json(json.dumps(row, ensure_ascii=False))}\n".encode()
    heads = [f"{on_one_line(name)}.{part}".replace('"', "'") for name in skeleton.names for part in PARTS]
    yield (",".join(['"time_s"', *(f'"{head}"' for head in heads)]) + "\n").encode()
    world = clip.world()
    values = np.concatenate([world.positions, world.rotations], axis=2).reshape(clip.frames, -1)
    times = np.arange(clip.frames) / float(clip.rate)
    for time, numbers in zip(times.tolist(), values.tolist(), strict=True):
        # repr gives every number back exactly as it was.
        yield (",".join([repr(time), *map(repr, numbers)]) + "\n").encode()
