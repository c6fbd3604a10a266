// Packs a GLB as programs that make small files do, with the encoders of those who defined the formats.
//   pack(from, to, {how: "draco", sequential: false})
//   pack(from, to, {how: "meshopt", extension: "EXT_meshopt_compression", filters: true, fallback: true})
import { readFileSync, writeFileSync } from "node:fs";
import draco3d from "draco3d";
import { MeshoptEncoder } from "meshoptimizer";

const WIDTHS = { SCALAR: 1, VEC2: 2, VEC3: 3, VEC4: 4, MAT4: 16 };
const ARRAYS = { 5120: Int8Array, 5121: Uint8Array, 5122: Int16Array, 5123: Uint16Array, 5125: Uint32Array, 5126: Float32Array };
const KINDS = { POSITION: "POSITION", NORMAL: "NORMAL", TEXCOORD_0: "TEX_COORD", COLOR_0: "COLOR" };
const BITS = { POSITION: 16, NORMAL: 12, TEX_COORD: 14, COLOR: 10, GENERIC: 16 };

class Out {
  constructor() {
    this.parts = [];
    this.length = 0;
  }
  add(bytes) {
    const at = this.length;
    const padded = Buffer.alloc(Math.ceil(bytes.length / 4) * 4);
    padded.set(bytes);
    this.parts.push(padded);
    this.length += padded.length;
    return at;
  }
}

function opened(file) {
  const bytes = readFileSync(file);
  const length = bytes.readUInt32LE(12);
  return { json: JSON.parse(bytes.subarray(20, 20 + length)), binary: bytes.subarray(28 + length) };
}

function valuesOf(json, binary, index) {
  const row = json.accessors[index];
  const view = json.bufferViews[row.bufferView];
  const kind = ARRAYS[row.componentType];
  const size = kind.BYTES_PER_ELEMENT * WIDTHS[row.type];
  const step = view.byteStride ?? size;
  const start = (view.byteOffset ?? 0) + (row.byteOffset ?? 0);
  const out = Buffer.alloc(row.count * size);
  for (let at = 0; at < row.count; at++) out.set(binary.subarray(start + at * step, start + at * step + size), at * size);
  return new kind(out.buffer, out.byteOffset, row.count * WIDTHS[row.type]);
}

function written(file, json, out) {
  const text = Buffer.from(JSON.stringify(json));
  const padded = Buffer.alloc(Math.ceil(text.length / 4) * 4, 32);
  padded.set(text);
  const head = Buffer.alloc(20);
  head.write("glTF");
  [2, 28 + padded.length + out.length, padded.length, 0x4e4f534a].forEach((value, at) => head.writeUInt32LE(value, 4 + 4 * at));
  const middle = Buffer.alloc(8);
  middle.writeUInt32LE(out.length);
  middle.writeUInt32LE(0x004e4942, 4);
  writeFileSync(file, Buffer.concat([head, padded, middle, ...out.parts]));
}

// Every accessor in a view of its own, but for those that are packed otherwise; images as they are.
function spread(json, binary, out, packed, pack) {
  const views = [];
  json.accessors.forEach((row, index) => {
    if (packed.has(index)) return;
    views.push(pack(row, valuesOf(json, binary, index), index));
    row.bufferView = views.length - 1;
    delete row.byteOffset;
  });
  for (const image of json.images ?? []) {
    const { byteOffset = 0, byteLength } = json.bufferViews[image.bufferView];
    views.push({ buffer: 0, byteOffset: out.add(binary.subarray(byteOffset, byteOffset + byteLength)), byteLength });
    image.bufferView = views.length - 1;
  }
  json.bufferViews = views;
}

function declare(json, ...names) {
  for (const key of ["extensionsUsed", "extensionsRequired"]) json[key] = [...(json[key] ?? []), ...names];
}

async function withDraco(json, binary, out, { sequential }) {
  const draco = await draco3d.createEncoderModule();
  const made = [];
  const packed = new Set();
  const numbers = (mesh, builder, kind, row, values) => {
    const add = { 5120: "AddInt8Attribute", 5121: "AddUInt8Attribute", 5122: "AddInt16Attribute", 5123: "AddUInt16Attribute",
                  5125: "AddUInt32Attribute", 5126: "AddFloatAttributeToMesh" }[row.componentType];
    return builder[add](mesh, draco[kind], row.count, WIDTHS[row.type], values);
  };
  for (const { primitives } of json.meshes) {
    for (const primitive of primitives) {
      if (primitive.indices === undefined) continue;
      const builder = new draco.MeshBuilder(), mesh = new draco.Mesh(), encoder = new draco.Encoder();
      const corners = Uint32Array.from(valuesOf(json, binary, primitive.indices));
      builder.AddFacesToMesh(mesh, corners.length / 3, corners);
      const attributes = {};
      let changes = false;
      for (const [name, index] of Object.entries(primitive.attributes)) {
        attributes[name] = numbers(mesh, builder, KINDS[name] ?? "GENERIC", json.accessors[index], valuesOf(json, binary, index));
        packed.add(index);
      }
      packed.add(primitive.indices);
      for (const [kind, bits] of Object.entries(BITS)) encoder.SetAttributeQuantization(draco[kind], bits);
      // What has morphs keeps its vertices in their order: morphs are not packed.
      const method = sequential || primitive.targets ? "MESH_SEQUENTIAL_ENCODING" : "MESH_EDGEBREAKER_ENCODING";
      encoder.SetEncodingMethod(draco[method]);
      const found = new draco.DracoInt8Array();
      const length = encoder.EncodeMeshToDracoBuffer(mesh, found);
      if (!length) throw new Error("draco could not encode it");
      const bytes = Buffer.alloc(length);
      for (let at = 0; at < length; at++) bytes[at] = found.GetValue(at);
      primitive.extensions = { ...primitive.extensions, KHR_draco_mesh_compression: { bufferView: 0, attributes } };
      made.push({ primitive, bytes, count: encoder.GetNumberOfEncodedPoints() });
    }
  }
  spread(json, binary, out, packed, (row, values) => {
    const bytes = Buffer.from(values.buffer, values.byteOffset, values.byteLength);
    return { buffer: 0, byteOffset: out.add(bytes), byteLength: bytes.length };
  });
  for (const { primitive, bytes, count } of made) {
    json.bufferViews.push({ buffer: 0, byteOffset: out.add(bytes), byteLength: bytes.length });
    primitive.extensions.KHR_draco_mesh_compression.bufferView = json.bufferViews.length - 1;
  }
  for (const index of packed) {
    delete json.accessors[index].bufferView;
    delete json.accessors[index].byteOffset;
  }
  declare(json, "KHR_draco_mesh_compression");
}

async function withMeshopt(json, binary, out, { extension, filters, fallback }) {
  await MeshoptEncoder.ready;
  const version = extension.startsWith("KHR") ? 1 : 0;
  const indices = new Set(), normals = new Set(), rotations = new Set(), vertices = new Set();
  for (const { primitives } of json.meshes) {
    for (const { indices: own, attributes, targets } of primitives) {
      if (own !== undefined) indices.add(own);
      if (attributes.NORMAL !== undefined) normals.add(attributes.NORMAL);
      for (const own of [attributes, ...(targets ?? [])]) for (const index of Object.values(own)) vertices.add(index);
    }
  }
  for (const { channels, samplers } of json.animations ?? [])
    for (const { sampler, target } of channels) if (target.path === "rotation" && samplers[sampler].interpolation !== "CUBICSPLINE") rotations.add(samplers[sampler].output);
  let unpacked = 0;
  const pack = (row, values, index) => {
    let size = values.BYTES_PER_ELEMENT * WIDTHS[row.type], mode = "ATTRIBUTES", filter = "NONE";
    let bytes = new Uint8Array(values.buffer, values.byteOffset, values.byteLength);
    let count = row.count, byteStride;
    if (indices.has(index)) {
      // The first as triangles, the next as plain numbers, and so on.
      mode = row.count % 3 === 0 && [...indices].indexOf(index) % 2 === 0 ? "TRIANGLES" : "INDICES";
    } else if (filters && normals.has(index) && row.componentType === 5126) {
      const four = new Float32Array(row.count * 4);
      for (let at = 0; at < row.count; at++) four.set(values.subarray(3 * at, 3 * at + 3), 4 * at);
      bytes = MeshoptEncoder.encodeFilterOct(four, row.count, 8, 16);
      size = byteStride = 8;
      filter = "OCTAHEDRAL";
      Object.assign(row, { componentType: 5122, normalized: true });
      delete row.min;
      delete row.max;
    } else if (filters && rotations.has(index) && row.componentType === 5126) {
      bytes = MeshoptEncoder.encodeFilterQuat(values, row.count, 8, 16);
      size = 8;
      filter = "QUATERNION";
      Object.assign(row, { componentType: 5122, normalized: true });
      delete row.min;
      delete row.max;
    } else if (filters && row.componentType === 5126 && !vertices.has(index) && !row.min) {
      bytes = MeshoptEncoder.encodeFilterExp(values, row.count, size, 20, "Separate");
      filter = "EXPONENTIAL";
    } else if (size % 4) {
      // Rows start at multiples of four bytes.
      const step = Math.ceil(size / 4) * 4, wide = new Uint8Array(row.count * step);
      for (let at = 0; at < row.count; at++) wide.set(bytes.subarray(at * size, at * size + size), at * step);
      [bytes, size, byteStride] = [wide, step, step];
    }
    if (vertices.has(index)) byteStride = size;
    const data = MeshoptEncoder.encodeGltfBuffer(bytes, count, size, mode, version);
    const said = { buffer: 0, byteOffset: out.add(data), byteLength: data.length, byteStride: size, mode, count };
    if (filter !== "NONE") said.filter = filter;
    const view = { buffer: fallback ? 1 : 0, byteOffset: fallback ? unpacked : 0, byteLength: count * size };
    if (byteStride) view.byteStride = byteStride;
    unpacked += Math.ceil((count * size) / 4) * 4;
    return { ...view, extensions: { [extension]: said } };
  };
  spread(json, binary, out, new Set(), pack);
  json.buffers = fallback ? [{}, { byteLength: unpacked, extensions: { [extension]: { fallback: true } } }] : [{}];
  declare(json, extension, ...(filters ? ["KHR_mesh_quantization"] : []));
}

export default async function (from, to, options) {
  const { json, binary } = opened(from);
  const out = new Out();
  await (options.how === "draco" ? withDraco : withMeshopt)(json, binary, out, options);
  json.buffers = [{ ...json.buffers[0], byteLength: out.length }, ...json.buffers.slice(1)];
  written(to, json, out);
  return out.length;
}
