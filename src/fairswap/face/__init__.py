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
    from fairswap.face.speech.speaking import SpeechOptions

_HOMES = {
    "face.applying": "AppliedFace apply",
    "face.chart": "FaceChart",
    "face.charting": "check draft match",
    "face.drafting": "FaceDraft",
    "face.head": "Head",
    "face.speech.speaking": "SpeechOptions",
}
__all__ = [
    "AppliedFace", "FaceChart", "FaceDraft", "Head", "SpeechOptions", "apply", "check", "draft", "match",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
