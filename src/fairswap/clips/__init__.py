"""Operations on clips: a clip in, a new one out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.clips.cleaning import Fault
    from fairswap.clips.describing import ClipDescription
    from fairswap.clips.key_reduction import Thinned
    from fairswap.clips.looping import Cycle
    from fairswap.clips.verbs import (
        blend,
        clean,
        cut,
        cycles,
        describe,
        faults,
        join,
        layer,
        loop,
        mirror,
        place,
        rate,
        rename,
        reverse,
        speed,
        thin,
        trim,
    )

_HOMES = {
    "clips.cleaning": "Fault",
    "clips.describing": "ClipDescription",
    "clips.key_reduction": "Thinned",
    "clips.looping": "Cycle",
    "clips.verbs": "blend clean cut cycles describe faults join layer loop mirror place rate rename reverse speed thin "
    "trim",
}
__all__ = [
    "ClipDescription", "Cycle", "Fault", "Thinned", "blend", "clean", "cut", "cycles", "describe", "faults", "join",
    "layer", "loop", "mirror", "place", "rate", "rename", "reverse", "speed", "thin", "trim",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
