// Packs bytes (base64) as meshopt does, and unpacks them again with its own decoder: [packed, unpacked]. With a filter
// the bytes are floats, four for each row, or of the exponential filter as many as fit into the stride.
import { MeshoptDecoder, MeshoptEncoder } from "meshoptimizer";

const FILTERS = { OCTAHEDRAL: "Oct", QUATERNION: "Quat", EXPONENTIAL: "Exp", COLOR: "Color" };

export default async function (given, count, stride, mode, version, filter = "NONE", bits = 8) {
  await Promise.all([MeshoptEncoder.ready, MeshoptDecoder.ready]);
  let bytes = Uint8Array.from(Buffer.from(given, "base64"));
  if (filter !== "NONE") bytes = MeshoptEncoder[`encodeFilter${FILTERS[filter]}`](new Float32Array(bytes.buffer), count, stride, bits);
  const packed = MeshoptEncoder.encodeGltfBuffer(bytes, count, stride, mode, version);
  const unpacked = new Uint8Array(count * stride);
  MeshoptDecoder.decodeGltfBuffer(unpacked, count, stride, packed, mode, filter);
  return [packed, unpacked].map((data) => Buffer.from(data).toString("base64"));
}
