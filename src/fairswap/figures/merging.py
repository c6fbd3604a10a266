"""Join second copies of a skeleton, as come with clothes, with the figure's own bones, skin weights and all."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from fairswap.bones.identification import identify
from fairswap.errors import ImpossibleError
from fairswap.formats.files import document_of
from fairswap.formats.gltf.merging import container_with_merged_joints
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.reckoned import as_reckoned
from fairswap.model.document import Document
from fairswap.model.stand_ins import bone_in_file
from fairswap.wording import counted


@dataclass(frozen=True, eq=False)
class Merged:
    """A document with the copies' skins on the main figure's bones: each bone with the one it was joined with, and
    those that stay since a skin has both."""

    document: Document
    joined: tuple[tuple[str, str], ...]
    kept: tuple[str, ...]

    def __repr__(self) -> str:
        return f"<Merged {self.document.figure.name!r}: {counted(len(self.joined), 'bone')} joined>"


def merge(what: Document | str | Path) -> Merged:
    """Join second copies of the skeleton, as come with clothes, with the figure's own bones.

    Copies are whole skeletons beside the figure's, or parts of one (joined as soon as a file is read), and single bones
    inside it, that stand where its bones stand and are called alike.

    >>> import fairswap
    >>> fairswap.bones.merge(fairswap.demo_file("pip.glb"))
    Traceback (most recent call last):
    ...
    fairswap.errors.ImpossibleError: ...pip.glb: there is no second copy of the skeleton in it. Nothing ...

    Raises
    ------
    ImpossibleError
        If there is no copy, or the file is no glTF.
    """
    document = document_of(what)
    main = document.figure
    source = main.source
    if not isinstance(source, GltfSource):
        raise ImpossibleError("only glTF files hold skins that could be joined", file=document.file)
    duplicates = identify(main).duplicates
    if not duplicates and not document.joined:
        raise ImpossibleError(
            "there is no second copy of the skeleton in it", file=document.file, remedy="Nothing needs to be joined"
        )
    node = {bone: source.nodes[bone_in_file(main, bone)] for pair in duplicates for bone in pair}
    into = {node[bone]: node[partner] for bone, partner in duplicates}
    names = {node[bone]: main.skeleton.names[bone] for bone in node}
    container, kept = container_with_merged_joints(source.container, into)
    joined = tuple((names[node], names[partner]) for node, partner in into.items() if node not in kept)
    merged = as_reckoned(document_from_container(container))
    return Merged(merged, document.joined + joined, tuple(names[node] for node in into if node in kept))
