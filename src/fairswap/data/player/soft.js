// Where there is no graphics card: skins are worked out here, once for each frame, and lit simply. What a card does for
// nothing for each corner of each triangle costs a processor more than doing it once for each vertex.
import { THREE } from "three";

export function drawsInSoftware() {
  const context = document.createElement("canvas").getContext("webgl2");
  const known = context?.getExtension("WEBGL_debug_renderer_info");
  const name = known ? context.getParameter(known.UNMASKED_RENDERER_WEBGL) : "";
  context?.getExtension("WEBGL_lose_context")?.loseContext();
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
}

// Skinned parts that share their vertices, drawn as plain meshes in world space.
export class SoftSkin {
  constructor(parts) {
    const [{ geometry, skeleton }] = parts;
    this.skeleton = skeleton;
    this.lead = parts[0];
    this.places = geometry.attributes.position.array;
    this.normals = geometry.attributes.normal.array;
    this.joints = geometry.attributes.skinIndex.array;
    this.weights = geometry.attributes.skinWeight.array;
    this.deltas = (geometry.morphAttributes.position ?? []).map((attribute) => attribute.array);
    this.position = new THREE.BufferAttribute(new Float32Array(this.places.length), 3).setUsage(THREE.DynamicDrawUsage);
    this.normal = new THREE.BufferAttribute(new Float32Array(this.places.length), 3).setUsage(THREE.DynamicDrawUsage);
    this.meshes = parts.map((part) => {
      const own = new THREE.BufferGeometry();
      own.setIndex(part.geometry.index);
      own.setAttribute("position", this.position);
      own.setAttribute("normal", this.normal);
      for (const name of ["uv", "color"]) if (part.geometry.attributes[name]) own.setAttribute(name, part.geometry.attributes[name]);
      const mesh = new THREE.Mesh(own, plain(part.material));
      mesh.frustumCulled = false;
      mesh.updateMatrixWorld = () => {}; // its vertices are in the world already
      return mesh;
    });
  }

  update() {
    this.skeleton.update();
    const bones = this.skeleton.boneMatrices;
    const { places, normals, joints, weights } = this;
    const [outPlaces, outNormals] = [this.position.array, this.normal.array];
    const shaped = this.shaped(places);
    const m = new Float32Array(12);
    for (let at = 0, four = 0; at < places.length; at += 3, four += 4) {
      m.fill(0);
      for (let k = 0; k < 4; k += 1) {
        const weight = weights[four + k];
        if (weight === 0) continue;
        const bone = 16 * joints[four + k];
        for (let column = 0; column < 4; column += 1) {
          m[3 * column] += weight * bones[bone + 4 * column];
          m[3 * column + 1] += weight * bones[bone + 4 * column + 1];
          m[3 * column + 2] += weight * bones[bone + 4 * column + 2];
        }
      }
      const [x, y, z] = [shaped[at], shaped[at + 1], shaped[at + 2]];
      outPlaces[at] = m[0] * x + m[3] * y + m[6] * z + m[9];
      outPlaces[at + 1] = m[1] * x + m[4] * y + m[7] * z + m[10];
      outPlaces[at + 2] = m[2] * x + m[5] * y + m[8] * z + m[11];
      const [u, v, w] = [normals[at], normals[at + 1], normals[at + 2]];
      outNormals[at] = m[0] * u + m[3] * v + m[6] * w;
      outNormals[at + 1] = m[1] * u + m[4] * v + m[7] * w;
      outNormals[at + 2] = m[2] * u + m[5] * v + m[8] * w;
    }
    this.position.needsUpdate = this.normal.needsUpdate = true;
  }

  // The vertices with the morphs that are on.
  shaped(places) {
    const weights = this.lead.morphTargetInfluences ?? [];
    let out = places;
    this.deltas.forEach((delta, morph) => {
      const weight = weights[morph];
      if (!weight) return;
      if (out === places) out = Float32Array.from(places);
      for (let at = 0; at < out.length; at += 1) out[at] += weight * delta[at];
    });
    return out;
  }
}

function plain({ map, color, vertexColors, transparent, opacity, alphaTest, side, emissive, emissiveMap }) {
  return new THREE.MeshLambertMaterial({ map, color, vertexColors, transparent, opacity, alphaTest, side, emissive, emissiveMap });
}
