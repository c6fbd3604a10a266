// Plays the first animation of a COLLADA file in three.js, and gives the world position of every joint and of some
// vertices of every skin at the given times: {"joints": {name: [[x, y, z] per time]}, "skins": {name: [[[x, y, z]]]}}.
import { readFileSync } from "node:fs";
import { DOMParser } from "@xmldom/xmldom";
import { AnimationMixer, LoopOnce, Vector3 } from "three";
import { ColladaLoader } from "three/addons/loaders/ColladaLoader.js";
import "gltf-validator"; // takes itself to be in a browser if there is a document when it is loaded: before there is one

// There is no screen: pictures are never loaded, and the parser is one of plain XML.
globalThis.DOMParser = DOMParser;
const nothing = () => {};
globalThis.document = { createElementNS: () => ({ addEventListener: nothing, removeEventListener: nothing }) };

export default function (file, times, step = 50) {
  const collada = new ColladaLoader().parse(readFileSync(file, "utf8"), "");
  const scene = collada.scene;
  const mixer = new AnimationMixer(scene);
  const clip = scene.animations[0];
  const action = mixer.clipAction(clip);
  action.setLoop(LoopOnce);
  action.clampWhenFinished = true;
  action.play();
  const out = { joints: {}, skins: {}, clip: clip.name, duration: clip.duration };
  for (const time of times) {
    action.time = time;
    mixer.update(0);
    scene.updateMatrixWorld(true);
    scene.traverse((object) => {
      if (object.isBone) {
        (out.joints[object.name] ??= []).push(new Vector3().setFromMatrixPosition(object.matrixWorld).toArray());
      } else if (object.isSkinnedMesh) {
        const count = object.geometry.attributes.position.count;
        const places = [];
        for (let vertex = 0; vertex < count; vertex += step) {
          places.push(object.localToWorld(object.getVertexPosition(vertex, new Vector3())).toArray());
        }
        (out.skins[object.name] ??= []).push(places);
      }
    });
  }
  return out;
}
