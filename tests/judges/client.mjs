// A glTF client: a file opened in three.js, with its first animation ready to be played. Materials are taken out first:
// there is no screen to show them on.
import { readFileSync } from "node:fs";
import { AnimationMixer, LoopOnce } from "three";
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

// The scene of a file; a function that brings it to a time; and the objects of its nodes, by number.
export async function opened(file) {
  const gltf = await new GLTFLoader().parseAsync(withoutLooks(new Uint8Array(readFileSync(file))), "");
  const mixer = new AnimationMixer(gltf.scene);
  let action;
  if (gltf.animations.length) {
    action = mixer.clipAction(gltf.animations[0]);
    action.setLoop(LoopOnce);
    action.clampWhenFinished = true;
    action.play();
  }
  const nodes = new Map();
  gltf.scene.traverse((object) => {
    const found = gltf.parser.associations.get(object);
    if (found?.nodes !== undefined) nodes.set(found.nodes, object);
  });
  const go = (time) => {
    if (action) action.time = time;
    mixer.update(0);
    gltf.scene.updateMatrixWorld(true);
  };
  return { scene: gltf.scene, go, nodes };
}
