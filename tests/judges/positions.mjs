// Plays the first animation of a GLB in three.js and gives the world position of every node at the given times:
// {"name of node by index": [[x, y, z] per time]}. Materials are taken out first: there is no screen to show them on.
import { readFileSync } from "node:fs";
import { AnimationMixer, LoopOnce, Vector3 } from "three";
import { GLTFLoader } from "three/addons/loaders/GLTFLoader.js";

function withoutLooks(bytes) {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  const length = view.getUint32(12, true);
  const json = JSON.parse(new TextDecoder().decode(bytes.subarray(20, 20 + length)));
  delete json.materials;
  delete json.textures;
  delete json.images;
  for (const mesh of json.meshes ?? []) for (const primitive of mesh.primitives) delete primitive.material;
  let text = new TextEncoder().encode(JSON.stringify(json));
  const padded = new Uint8Array(Math.ceil(text.length / 4) * 4).fill(32);
  padded.set(text);
  const rest = bytes.subarray(20 + length);
  const out = new Uint8Array(20 + padded.length + rest.length);
  out.set(bytes.subarray(0, 8));
  out.set(padded, 20);
  out.set(rest, 20 + padded.length);
  const head = new DataView(out.buffer);
  head.setUint32(8, out.length, true);
  head.setUint32(12, padded.length, true);
  head.setUint32(16, 0x4e4f534a, true);
  return out.buffer;
}

export default async function (file, times) {
  const loader = new GLTFLoader();
  const gltf = await loader.parseAsync(withoutLooks(new Uint8Array(readFileSync(file))), "");
  const mixer = new AnimationMixer(gltf.scene);
  const action = mixer.clipAction(gltf.animations[0]);
  action.setLoop(LoopOnce);
  action.clampWhenFinished = true;
  action.play();
  const nodes = new Map();
  gltf.scene.traverse((object) => {
    const found = gltf.parser.associations.get(object);
    if (found?.nodes !== undefined) nodes.set(found.nodes, object);
  });
  const out = Object.fromEntries([...nodes.keys()].map((index) => [index, []]));
  for (const time of times) {
    action.time = time;
    mixer.update(0);
    gltf.scene.updateMatrixWorld(true);
    for (const [index, object] of nodes) out[index].push(new Vector3().setFromMatrixPosition(object.matrixWorld).toArray());
  }
  return out;
}
