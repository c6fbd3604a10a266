// Plays the first animation of a GLB in three.js and gives where every so many-th vertex of its meshes is at the given
// times, morphs and skin and all: [[[x, y, z] per vertex] per time].
import { Vector3 } from "three";
import { opened } from "./client.mjs";

export default async function (file, times, step) {
  const { scene, go } = await opened(file);
  return times.map((time) => {
    go(time);
    const places = [];
    scene.traverse((object) => {
      if (!object.isMesh) return;
      const count = object.geometry.attributes.position.count;
      for (let vertex = 0; vertex < count; vertex += step) {
        places.push(object.localToWorld(object.getVertexPosition(vertex, new Vector3())).toArray());
      }
    });
    return places;
  });
}
