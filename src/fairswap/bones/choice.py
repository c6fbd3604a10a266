"""Which of several figures in a file is meant: the only person among them, or the one that was chosen."""

from __future__ import annotations

from dataclasses import replace

from fairswap.bones.assignment import roles_of
from fairswap.errors import FairSwapError, Finding, UsageError
from fairswap.model.document import Document
from fairswap.model.figure import Figure


def with_one_person(document: Document) -> Document:
    """The document whose main figure is the one to change.

    Of several figures the only person with a mesh counts, also beside a larger animal or machine.

    Raises
    ------
    UsageError
        If there are several persons and nobody chose.
    """
    if document.chosen or len(document.figures) < 2:
        return document
    persons = [figure for figure in document.figures if figure.meshes and _is_person(document, figure)]
    if len(persons) > 1:
        names = ", ".join(f"{figure.name!r} ({len(figure.skeleton)} bones)" for figure in persons)
        problem = f"there are {len(persons)} people in it: {names}"
        raise UsageError(problem, file=document.file, code="several-people")
    if not persons or persons[0] is document.figure:
        return document
    others = tuple(figure for figure in document.figures if figure is not persons[0])
    message = f"{persons[0].name!r} is the only person in it; {len(others)} other figures stay as they are"
    told = Finding("several-figures", "note", document.file, message)
    return replace(
        document, figures=(persons[0], *others), clips=document.clips_of(persons[0]), chosen=True,
        findings=(*document.findings, told),
    )  # fmt: skip


def _is_person(document: Document, figure: Figure) -> bool:
    try:
        roles_of(figure, clip=next(iter(document.clips_of(figure)), None))
    except FairSwapError:
        return False
    return True
