"""What people look at: pictures of figures, motions, poses, bones, faces. Each gives a PNG as bytes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.picture.verbs import bones, curves, face, loss, moments, pose, reel, sheet

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "bones": "fairswap.picture.verbs",
    "curves": "fairswap.picture.verbs",
    "face": "fairswap.picture.verbs",
    "loss": "fairswap.picture.verbs",
    "moments": "fairswap.picture.verbs",
    "pose": "fairswap.picture.verbs",
    "reel": "fairswap.picture.verbs",
    "sheet": "fairswap.picture.verbs",
}
__all__ = [
    "bones",
    "curves",
    "face",
    "loss",
    "moments",
    "pose",
    "reel",
    "sheet",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
