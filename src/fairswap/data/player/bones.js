// Bones drawn over the skin: a line from each to the one it hangs on, a dot at its joint, left and right coloured.
import { THREE } from "three";
import { MARK, colorOf } from "./look.js";

const NEAR_PX = 12;

export class Bones {
  constructor(figure) {
    this.figure = figure;
    const bones = figure.data.bones;
    this.drawn = this.chosen(bones);
    this.lines = bones.flatMap((bone, number) =>
      this.drawn[number] && bone.parent >= 0 && this.isBone(number) ? [[bone.parent, number]] : []);
    this.dots = bones.map((_, number) => number).filter((number) => this.drawn[number] && !bones[number].end);
    this.group = new THREE.Group();
    this.line = new THREE.LineSegments(geometryFor(this.lines.flat(), bones), plain(THREE.LineBasicMaterial, { transparent: true, opacity: 0.85 }));
    this.point = new THREE.Points(geometryFor(this.dots, bones), plain(THREE.PointsMaterial, { size: 5, sizeAttenuation: false }));
    this.marker = new THREE.Points(new THREE.BufferGeometry(), plain(THREE.PointsMaterial, { color: MARK, vertexColors: false, size: 13, sizeAttenuation: false }));
    this.marker.geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(3), 3));
    this.marker.visible = false;
    for (const [order, part] of [this.line, this.point, this.marker].entries()) {
      part.frustumCulled = false;
      part.renderOrder = 10 + order;
      this.group.add(part);
    }
    this.marked = -1;
    this.at = new THREE.Vector3();
  }

  // All but the many bones of a face, which hide it; they have no roles.
  chosen(bones) {
    const head = bones.findIndex((bone) => bone.role === "head");
    const below = bones.map(() => false);
    bones.forEach((bone, number) => (below[number] = bone.parent >= 0 && (bone.parent === head || below[bone.parent])));
    return bones.map((bone, number) => head < 0 || !below[number] || Boolean(bone.role));
  }

  // From a root on the floor up to the hips is no bone of the body.
  isBone(number) {
    const bones = this.figure.data.bones;
    const parent = bones[number].parent;
    return !(bones[parent].parent < 0 && bones.filter((bone) => bone.parent === parent).length === 1);
  }

  update() {
    fill(this.line.geometry, this.lines.flat(), this.figure, this.at);
    fill(this.point.geometry, this.dots, this.figure, this.at);
    if (this.marked >= 0) this.figure.place(this.marked, this.marker.position);
  }

  mark(number) {
    this.marked = number;
    this.marker.visible = number >= 0;
    this.update();
  }

  // The bone whose joint is nearest to a place on the panel, or -1.
  nearest(x, y, camera, width, height) {
    let best = -1;
    let least = NEAR_PX;
    for (const number of this.dots) {
      this.figure.place(number, this.at).project(camera);
      if (Math.abs(this.at.z) > 1) continue;
      const far = Math.hypot((this.at.x * 0.5 + 0.5) * width - x, (0.5 - this.at.y * 0.5) * height - y);
      if (far < least) [best, least] = [number, far];
    }
    return best;
  }
}

function plain(Material, more) {
  return new Material({ vertexColors: true, depthTest: false, depthWrite: false, ...more });
}

function geometryFor(numbers, bones) {
  const geometry = new THREE.BufferGeometry();
  const colors = new Float32Array(numbers.flatMap((number) => colorOf(bones[number].side).toArray()));
  geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(3 * numbers.length), 3));
  geometry.setAttribute("color", new THREE.BufferAttribute(colors, 3));
  return geometry;
}

function fill(geometry, numbers, figure, at) {
  const positions = geometry.attributes.position;
  numbers.forEach((number, row) => figure.place(number, at).toArray(positions.array, 3 * row));
  positions.needsUpdate = true;
}
