"""What people look at: pictures of figures, motions, poses, bones, faces. Each gives a PNG as bytes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.picture.verbs import bones, curves, dressing, face, loss, moments, pose, reel, rigging, sheet, strip

_HOMES = {
    "picture.verbs": "bones curves dressing face loss moments pose reel rigging sheet strip",
}
__all__ = [
    "bones", "curves", "dressing", "face", "loss", "moments", "pose", "reel", "rigging", "sheet", "strip",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
