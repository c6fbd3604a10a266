"""Faces: what the shapes of a head do, and expressions and speech put on other heads."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.face.applying import AppliedFace, apply
    from fairswap.face.chart import FaceChart
    from fairswap.face.charting import check, draft, match
    from fairswap.face.drafting import FaceDraft
    from fairswap.face.head import Head

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "AppliedFace": "fairswap.face.applying",
    "FaceChart": "fairswap.face.chart",
    "FaceDraft": "fairswap.face.drafting",
    "Head": "fairswap.face.head",
    "apply": "fairswap.face.applying",
    "check": "fairswap.face.charting",
    "draft": "fairswap.face.charting",
    "match": "fairswap.face.charting",
}
__all__ = [
    "AppliedFace",
    "FaceChart",
    "FaceDraft",
    "Head",
    "apply",
    "check",
    "draft",
    "match",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
