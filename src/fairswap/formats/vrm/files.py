"""Avatars (``.vrm``): glTF files that say what VRM 1.0 wants to know; editions 1.0 and 0.x are read."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fairswap.formats.gltf.container import parts_of
from fairswap.formats.gltf.packing import Packer
from fairswap.formats.gltf.reading import read
from fairswap.formats.gltf.writing import document_of_figure, files_of_document
from fairswap.formats.storage import Chunk
from fairswap.formats.vrm.humanoid import extension_of
from fairswap.formats.vrm.writing import add_avatar, add_springs, changed_meta
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.space import Space

__all__ = ["encode", "parts_of", "read"]


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """A ``.vrm``; see :func:`fairswap.formats.files.encode`.

    Raises
    ------
    ImpossibleError
        If it is not known which bone is which, or nobody said who made it and what may be done with it.
    """
    raw, packer, nodes, mesh_nodes = document_of_figure(figure, clips, space)
    _say_of_avatar(raw, figure, nodes, mesh_nodes, packer)
    raw["bufferViews"] = packer.views
    return files_of_document(name, raw, packer)


def _say_of_avatar(
    raw: dict[str, Any], figure: Figure, nodes: list[int], mesh_nodes: list[int], packer: Packer
) -> None:
    """Make the document one of VRM 1.0; one that is so already keeps what it says, but for new terms of use and what
    was made to swing."""
    if not extension_of(raw, "VRMC_vrm"):
        add_avatar(raw, figure, nodes, mesh_nodes, packer)
    elif figure.avatar is not None and figure.avatar is not figure.source.avatar:
        changed_meta(raw, figure.avatar, packer, figure.name)
        if figure.avatar.swinging != figure.source.avatar.swinging:
            add_springs(raw, figure.avatar, nodes)
