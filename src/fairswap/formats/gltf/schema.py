"""The parts of glTF 2.0 that we understand, typed, so that a wrong type is told with its place.

Names and meaning are those of the standard. Everything else in the JSON is ignored here and carried through.
"""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import Meta, Struct

Index = Annotated[int, Meta(ge=0)]


class Buffer(Struct, rename="camel", frozen=True):
    byte_length: Index
    uri: str | None = None


class BufferView(Struct, rename="camel", frozen=True):
    buffer: Index
    byte_length: Index
    byte_offset: Index = 0
    byte_stride: Annotated[int, Meta(ge=4, le=252)] | None = None


class SparseIndices(Struct, rename="camel", frozen=True):
    buffer_view: Index
    component_type: int
    byte_offset: Index = 0


class SparseValues(Struct, rename="camel", frozen=True):
    buffer_view: Index
    byte_offset: Index = 0


class Sparse(Struct, frozen=True):
    count: Index
    indices: SparseIndices
    values: SparseValues


class Accessor(Struct, rename="camel", frozen=True):
    component_type: int
    count: Index
    type: str
    buffer_view: Index | None = None
    byte_offset: Index = 0
    normalized: bool = False
    sparse: Sparse | None = None
    # Bounds as the file tells them: looked at where they are numbers, never relied on.
    min: Any = None
    max: Any = None


class Node(Struct, frozen=True):
    name: str = ""
    children: list[Index] = []
    mesh: Index | None = None
    skin: Index | None = None
    camera: Index | None = None
    matrix: Annotated[list[float], Meta(min_length=16, max_length=16)] | None = None
    translation: Annotated[list[float], Meta(min_length=3, max_length=3)] | None = None
    rotation: Annotated[list[float], Meta(min_length=4, max_length=4)] | None = None
    scale: Annotated[list[float], Meta(min_length=3, max_length=3)] | None = None
    weights: list[float] | None = None
    extensions: dict[str, Any] = {}
    extras: Any = None


class BoneBox(Struct, frozen=True):
    """What ``extras`` of ours say of the skin of a bone, see :mod:`fairswap.formats.gltf.boxes`."""

    low_m: Annotated[list[float], Meta(min_length=3, max_length=3)]
    high_m: Annotated[list[float], Meta(min_length=3, max_length=3)]


class Skin(Struct, rename="camel", frozen=True):
    joints: Annotated[list[Index], Meta(min_length=1)]
    inverse_bind_matrices: Index | None = None
    name: str = ""


class Primitive(Struct, frozen=True):
    attributes: dict[str, Index]
    indices: Index | None = None
    material: Index | None = None
    mode: int = 4
    targets: list[dict[str, Index]] = []


class Mesh(Struct, frozen=True):
    primitives: list[Primitive]
    name: str = ""
    weights: list[float] | None = None
    extras: Any = None


class Sampler(Struct, frozen=True):
    input: Index
    output: Index
    interpolation: str = "LINEAR"


class Target(Struct, frozen=True):
    path: str
    node: Index | None = None
    extensions: dict[str, Any] = {}


class Channel(Struct, frozen=True):
    sampler: Index
    target: Target


class Animation(Struct, frozen=True):
    channels: list[Channel]
    samplers: list[Sampler]
    name: str = ""
    extras: Any = None


class TextureInfo(Struct, rename="camel", frozen=True):
    index: Index
    tex_coord: Index = 0
    extensions: dict[str, Any] = {}


class TextureTransform(Struct, rename="camel", frozen=True):
    """``KHR_texture_transform``: coordinates are scaled, turned and moved."""

    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    scale: tuple[float, float] = (1.0, 1.0)
    tex_coord: Index | None = None


class Shading(Struct, rename="camel", frozen=True):
    base_color_factor: tuple[float, ...] = (1.0, 1.0, 1.0, 1.0)
    base_color_texture: TextureInfo | None = None


class Material(Struct, rename="camel", frozen=True):
    pbr_metallic_roughness: Shading = Shading()
    alpha_mode: str = "OPAQUE"
    alpha_cutoff: float = 0.5
    double_sided: bool = False


class Texture(Struct, frozen=True):
    source: Index | None = None
    extensions: dict[str, Any] = {}


class Image(Struct, rename="camel", frozen=True):
    uri: str | None = None
    buffer_view: Index | None = None


class Scene(Struct, frozen=True):
    name: str = ""
    nodes: list[Index] = []


class Document(Struct, rename="camel", frozen=True):
    scenes: list[Scene] = []
    buffers: list[Buffer] = []
    buffer_views: list[BufferView] = []
    accessors: list[Accessor] = []
    nodes: list[Node] = []
    skins: list[Skin] = []
    meshes: list[Mesh] = []
    animations: list[Animation] = []
    materials: list[Material] = []
    textures: list[Texture] = []
    images: list[Image] = []
