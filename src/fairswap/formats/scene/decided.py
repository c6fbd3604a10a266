"""What a conversion decided, as its clip brings it along, in formats that have a place for plain words alone.

glTF keeps it as it is, in the ``extras`` of an animation. Here it is one line of JSON; what the clips of other programs
bring stays in glTF.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from fairswap.formats.marks import RECORD
from fairswap.model.clip import Clip

# Figures have thousands of bones at most, a hundred characters each.
_LONGEST = 4_000_000


def decided_text(clip: Clip) -> str:
    """What was decided about a clip, in letters that every format can hold; empty if it was not converted."""
    ours = (clip.made or {}).get(RECORD)
    return "" if ours is None else json.dumps(ours, separators=(",", ":"))


def decided_from(text: str | None) -> Mapping[str, Any] | None:
    """What such a text says. It is believed later, or not: here only what is no JSON is left aside."""
    if not text or len(text) > _LONGEST:
        return None
    try:
        return {RECORD: json.loads(text)}
    except (ValueError, RecursionError):
        return None
