// Where a figure is looked at from: views by name, turned by hand, going with the hips or with a part of the body.
import { THREE, OrbitControls } from "three";

const UP = new THREE.Vector3(0, 1, 0);
// Each view: from where (left, up, ahead), how far in heights of the figure, and around which role.
export const VIEWS = {
  Front: [[0.12, 0.16, 1], 1.75, ""],
  Side: [[-1, 0.1, 0.02], 1.75, ""],
  Back: [[-0.12, 0.16, -1], 1.75, ""],
  Top: [[0, 1, 0.02], 1.9, ""],
  Face: [[0.1, 0.02, 1], 0.36, "head"],
  "L hand": [[0.7, 0.25, 0.8], 0.36, "hand_left"],
  "R hand": [[-0.7, 0.25, 0.8], 0.36, "hand_right"],
};

export class Eye {
  constructor(figure, panel) {
    this.figure = figure;
    this.camera = new THREE.PerspectiveCamera(35, 1, 0.01, 1000);
    this.controls = new OrbitControls(this.camera, panel);
    this.controls.enableDamping = false;
    this.role = "";
    this.last = null;
    this.view("Front");
  }

  view(name) {
    const [from, heights, role] = VIEWS[name];
    const known = role && this.figure.roleAt(role);
    const target = known ? known.clone() : this.middle();
    if (role === "head" && known) this.toFace(target);
    this.role = known ? role : "";
    const away = new THREE.Vector3(...from).normalize().multiplyScalar(heights * this.figure.size);
    this.camera.near = 0.002 * this.figure.size;
    this.camera.far = 200 * this.figure.size;
    this.controls.target.copy(target);
    this.camera.position.copy(target).add(away);
    this.camera.up.copy(UP);
    this.controls.update();
    this.last = this.anchor();
  }

  // A little below the eyes, or where they may be over the joint of the head.
  toFace(target) {
    const [left, right] = ["eye_left", "eye_right"].map((role) => this.figure.roleAt(role));
    if (left && right) target.lerpVectors(left, right, 0.5);
    target.y += (left && right ? -0.02 : 0.055) * this.figure.size;
  }

  // The middle of the figure: over where its hips are, half as high as it is.
  middle() {
    const hips = this.figure.hips();
    return new THREE.Vector3(hips.x, this.figure.data.floor * this.figure.group.scale.x + 0.5 * this.figure.size, hips.z);
  }

  anchor() {
    const known = this.role && this.figure.roleAt(this.role);
    if (known) return known.clone();
    const hips = this.figure.hips();
    return hips.clone().setY(0);
  }

  follow(on) {
    const now = this.anchor();
    if (on && this.last) {
      const moved = now.clone().sub(this.last);
      this.controls.target.add(moved);
      this.camera.position.add(moved);
    }
    this.last = now;
  }

  // As another looks at its figure, in heights of each.
  likewise(other) {
    const scale = this.figure.size / other.figure.size;
    const away = other.camera.position.clone().sub(other.controls.target).multiplyScalar(scale);
    const off = other.controls.target.clone().sub(other.role ? other.anchor() : other.middle()).multiplyScalar(scale);
    this.role = this.figure.roleAt(other.role || " ") ? other.role : "";
    this.controls.target.copy(this.role ? this.anchor() : this.middle()).add(off);
    this.camera.position.copy(this.controls.target).add(away);
    this.controls.update();
    this.last = this.anchor();
  }

  fit(width, height) {
    // Tall and narrow panels still hold the whole figure.
    this.camera.aspect = width / height;
    this.camera.fov = this.camera.aspect < 0.62 ? (360 / Math.PI) * Math.atan((Math.tan((35 * Math.PI) / 360) * 0.62) / this.camera.aspect) : 35;
    this.camera.updateProjectionMatrix();
  }
}
