"""The figure to animate, made ready once for many motions: read, its bones known, and as each platform wants it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from fairswap.bones.assignment import roles_of
from fairswap.bones.choice import with_one_person
from fairswap.figures.avatars import as_said
from fairswap.figures.root import document_with_root, has_root
from fairswap.formats.files import document_of
from fairswap.jobs.options import TargetOptions
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.straight import straightened

if TYPE_CHECKING:
    from fairswap.platform.preparing import Prepared
    from fairswap.platform.rules import Platform


@dataclass(frozen=True, eq=False)
class Performer:
    """A figure to animate with its own clips; what it takes to make it fit a platform is worked out once."""

    document: Document
    rigged: RiggedFigure
    own_clips: tuple[Clip, ...]
    options: TargetOptions
    _prepared: list[tuple[Platform, Prepared]] = field(default_factory=list, repr=False)

    @classmethod
    def of(
        cls, what: Performer | str | Path | Document | Figure, options: TargetOptions, *, with_root: bool, strict: bool
    ) -> Performer:
        """Make a figure ready; one that is so already stays.

        Raises
        ------
        ImpossibleError
            If its bones are not known.
        """
        if isinstance(what, Performer):
            return what
        document = as_said(with_one_person(document_of(what)), options.profile, options.meta, options.springs)
        if with_root:  # a bone above the hips to put the travel on
            roles = roles_of(document.figure, options.profile, part="target")
            document = document if has_root(document.figure, roles) else document_with_root(document, roles)
        own_clips = tuple(document.clips_of(document.figure))
        rigged = RiggedFigure.of(
            document.figure, bones=options.bones, clip=next(iter(own_clips), None), reference=options.reference,
            hands=options.hands, strict=strict, part="target",
        )  # fmt: skip
        return cls(document, straightened(rigged, own_clips), own_clips, options)

    def prepared_for(self, platform: Platform) -> Prepared:
        """The figure as a platform wants it."""
        from fairswap.platform.preparing import prepare

        for known, prepared in self._prepared:
            if known is platform:
                return prepared
        self._prepared.append((platform, prepare(self.rigged, platform, self.own_clips)))
        return self._prepared[-1][1]
