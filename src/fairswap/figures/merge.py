"""Join second copies of a skeleton, as come with clothes, with the figure's own bones, skin weights and all."""

from __future__ import annotations

from typing import Any

from fairswap.bones.copies import copies_of
from fairswap.bones.identify import identify
from fairswap.document import Document
from fairswap.errors import ImpossibleError
from fairswap.formats.gltf.merging import container_with_merged_joints
from fairswap.formats.gltf.reading import GltfSource, document_from_container


def with_copies_merged(document: Document) -> tuple[Document, dict[str, Any]]:
    """The document with the copies' skins on the main figure's bones; and a report of what was joined.

    Copies are whole skeletons beside the figure's, and single bones inside it, that stand where its bones stand and are
    called alike.

    Raises
    ------
    ImpossibleError
        If there is no copy, or the file is no glTF.
    """
    main = document.figure
    source = main.source
    if not isinstance(source, GltfSource):
        raise ImpossibleError("only glTF files hold skins that could be joined", file=document.file)
    into: dict[int, int] = {}
    rows = []
    for other in document.figures:
        if other is main:
            continue
        for bone, partner in copies_of(main, other).items():
            into[other.source.nodes[bone]] = source.nodes[partner]
            rows.append((other.skeleton.names[bone], main.skeleton.names[partner], other.source.nodes[bone]))
    for bone, partner in identify(main).duplicates:
        into[source.nodes[bone]] = source.nodes[partner]
        rows.append((main.skeleton.names[bone], main.skeleton.names[partner], source.nodes[bone]))
    if not into:
        raise ImpossibleError(
            "there is no second copy of the skeleton in it", file=document.file, remedy="Nothing needs to be joined"
        )
    container, kept = container_with_merged_joints(source.container, into)
    report = {
        "figure": main.name,
        "merged": [{"bone": name, "into": partner} for name, partner, node in rows if node not in kept],
        "kept": [name for name, _, node in rows if node in kept],
    }
    return document_from_container(container), report
