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
        clean,
        cut,
        cycles,
        describe,
        faults,
        join,
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

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "ClipDescription": "fairswap.clips.describing",
    "Cycle": "fairswap.clips.looping",
    "Fault": "fairswap.clips.cleaning",
    "Thinned": "fairswap.clips.key_reduction",
    "clean": "fairswap.clips.verbs",
    "cut": "fairswap.clips.verbs",
    "cycles": "fairswap.clips.verbs",
    "describe": "fairswap.clips.verbs",
    "faults": "fairswap.clips.verbs",
    "join": "fairswap.clips.verbs",
    "loop": "fairswap.clips.verbs",
    "mirror": "fairswap.clips.verbs",
    "place": "fairswap.clips.verbs",
    "rate": "fairswap.clips.verbs",
    "rename": "fairswap.clips.verbs",
    "reverse": "fairswap.clips.verbs",
    "speed": "fairswap.clips.verbs",
    "thin": "fairswap.clips.verbs",
    "trim": "fairswap.clips.verbs",
}
__all__ = [
    "ClipDescription",
    "Cycle",
    "Fault",
    "Thinned",
    "clean",
    "cut",
    "cycles",
    "describe",
    "faults",
    "join",
    "loop",
    "mirror",
    "place",
    "rate",
    "rename",
    "reverse",
    "speed",
    "thin",
    "trim",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
