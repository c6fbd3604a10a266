// Plays the first animation of a GLB in three.js and gives the world position of every node at the given times:
// {"name of node by index": [[x, y, z] per time]}.
import { Vector3 } from "three";
import { opened } from "./client.mjs";

export default async function (file, times) {
  const { go, nodes } = await opened(file);
  const out = Object.fromEntries([...nodes.keys()].map((index) => [index, []]));
  for (const time of times) {
    go(time);
    for (const [index, object] of nodes) out[index].push(new Vector3().setFromMatrixPosition(object.matrixWorld).toArray());
  }
  return out;
}
