"""A document as all that comes after reading reckons with it: limbs hung on the body, what it lacks stood in for."""

from __future__ import annotations

from fairswap.formats.few_parts import with_stand_ins
from fairswap.formats.limbs_apart import with_limbs_hung
from fairswap.formats.low_hips import with_hips_between_legs
from fairswap.model.document import Document


def as_reckoned(document: Document) -> Document:
    """The document with its main figure as a whole body, which is written as its file has it."""
    return with_hips_between_legs(with_stand_ins(with_limbs_hung(document)))
