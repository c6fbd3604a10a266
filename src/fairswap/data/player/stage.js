// The stage: a panel for each figure, with light, a floor and the shadows of what is near it; or all over each other.
import { THREE } from "three";
import { GRID, PAPER, element } from "./look.js";
import { Bones } from "./bones.js";
import { Eye } from "./camera.js";
import { drawsInSoftware } from "./soft.js";

const SHADES = ["foot_left", "foot_right", "toes_left", "toes_right", "hand_left", "hand_right", "hips"];

export class Stage {
  constructor(figures, canvas, holder) {
    this.figures = figures;
    this.canvas = canvas;
    this.holder = holder;
    const soft = drawsInSoftware();
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: !soft });
    this.renderer.setScissorTest(true);
    this.renderer.setPixelRatio(soft ? 1 : Math.min(window.devicePixelRatio, 2));
    if (soft) for (const figure of figures) figure.softly();
    this.actors = figures.map((figure) => new Actor(figure));
    this.over = false;
    this.locked = true;
    this.following = true;
    for (const actor of this.actors) {
      holder.append(actor.panel);
      actor.eye = new Eye(actor.figure, actor.panel);
      actor.eye.controls.addEventListener("change", () => this.turned(actor));
    }
  }

  get shown() {
    const playing = this.actors.filter((actor) => actor.playing);
    return playing.length ? playing : this.actors;
  }

  // Which figures there are in an act, and how they stand.
  arrange() {
    const shown = this.shown;
    const front = shown[shown.length - 1];
    for (const actor of this.actors) {
      const ghost = this.over && shown.includes(actor) && actor === shown[0] && actor !== front;
      actor.panel.hidden = !shown.includes(actor) || (this.over && actor !== front);
      actor.figure.ghost(ghost);
      const legs = actor.figure.data.leg && front.figure.data.leg;
      actor.figure.group.scale.setScalar(this.over && legs ? front.figure.data.leg / actor.figure.data.leg : 1);
      const home = this.over && shown.includes(actor) ? front.scene : actor.scene;
      home.add(actor.figure.group, actor.bones.group, actor.shades);
      actor.bones.group.visible = this.bonesShown && (!this.over || !ghost);
    }
    const visible = this.over ? [front] : shown;
    // As many columns as make the panels most like figures: tall.
    const { clientWidth: width, clientHeight: height } = this.holder;
    const fits = (columns) => Math.min(width / columns / 0.62, height / Math.ceil(visible.length / columns));
    let columns = 1;
    for (let count = 2; count <= visible.length; count += 1) if (fits(count) > fits(columns)) columns = count;
    this.holder.style.gridTemplateColumns = `repeat(${columns}, 1fr)`;
    this.holder.style.gridAutoRows = "1fr";
    this.visible = visible;
    for (const actor of this.actors) {
      actor.figure.group.updateMatrixWorld(true);
      actor.update();
    }
    this.resize();
  }

  view(name) {
    for (const actor of this.actors) actor.eye.view(name);
  }

  turned(actor) {
    if (!this.locked || this.turning) return;
    this.turning = true;
    for (const other of this.actors) if (other !== actor) other.eye.likewise(actor.eye);
    this.turning = false;
  }

  resize() {
    const { clientWidth, clientHeight } = this.canvas.parentElement;
    this.renderer.setSize(clientWidth, clientHeight, false);
    for (const actor of this.visible ?? []) actor.eye.fit(actor.panel.clientWidth || 1, actor.panel.clientHeight || 1);
  }

  // All figures at one time.
  time(seconds) {
    for (const actor of this.actors) {
      actor.figure.time(seconds);
      actor.eye.follow(this.following);
      actor.update();
    }
  }

  draw() {
    for (const { figure } of this.over ? this.shown : this.visible) figure.beforeDrawn();
    const { clientHeight: whole } = this.holder;
    this.renderer.setScissor(0, 0, this.canvas.clientWidth, whole);
    this.renderer.setClearColor(PAPER);
    this.renderer.clear();
    for (const actor of this.visible) {
      const { offsetLeft: left, offsetTop: top, clientWidth: width, clientHeight: height } = actor.panel;
      if (!width || !height) continue;
      this.renderer.setViewport(left, whole - top - height, width, height);
      this.renderer.setScissor(left, whole - top - height, width, height);
      this.renderer.render(actor.scene, actor.eye.camera);
    }
  }
}

// A figure with its scene and its panel.
class Actor {
  constructor(figure) {
    this.figure = figure;
    this.bones = new Bones(figure);
    this.scene = new THREE.Scene();
    this.scene.background = PAPER;
    const sun = new THREE.DirectionalLight("#ffffff", 2.1);
    sun.position.set(1.2, 2.4, 2);
    const back = new THREE.DirectionalLight("#dfe8ff", 0.7);
    back.position.set(-1.5, 1.2, -2);
    this.scene.add(new THREE.HemisphereLight("#ffffff", "#b9b0a2", 1.5), sun, back);
    this.grid = new THREE.GridHelper(40 * figure.data.height, 80, ...GRID);
    this.grid.position.y = figure.data.floor;
    this.scene.add(this.grid);
    this.shades = new THREE.Group();
    for (const role of SHADES.filter((name) => figure.boneOf.has(name))) this.shades.add(shade(role, figure));
    this.panel = element("div", "panel");
    this.panel.append(element("div", "name", figure.data.title), element("div", "marked"));
    this.playing = true;
    this.at = new THREE.Vector3();
  }

  update() {
    this.bones.update();
    const floor = this.figure.data.floor * this.figure.group.scale.x;
    for (const disc of this.shades.children) {
      this.figure.roleAt(disc.userData.role, this.at);
      const height = (this.at.y - floor) / this.figure.size;
      disc.position.set(this.at.x, floor + 0.002 * this.figure.size, this.at.z);
      disc.material.opacity = Math.max(0, disc.userData.dark * (1 - Math.max(height, 0) / disc.userData.reach));
      disc.visible = disc.material.opacity > 0.01;
    }
  }
}

// What is near the floor darkens it: a soft disc under a joint.
function shade(role, figure) {
  const wide = { hips: 0.2, hand_left: 0.05, hand_right: 0.05 }[role] ?? 0.065;
  const material = new THREE.MeshBasicMaterial({ map: softDisc(), transparent: true, depthWrite: false, color: "#000000" });
  const disc = new THREE.Mesh(new THREE.PlaneGeometry(2 * wide * figure.data.height, 2 * wide * figure.data.height), material);
  disc.rotation.x = -Math.PI / 2;
  disc.userData = { role, dark: role === "hips" ? 0.5 : 0.55, reach: role === "hips" ? 0.75 : 0.14 };
  return disc;
}

let disc = null;
function softDisc() {
  if (disc) return disc;
  const side = 64;
  const canvas = document.createElement("canvas");
  canvas.width = canvas.height = side;
  const pen = canvas.getContext("2d");
  const soft = pen.createRadialGradient(side / 2, side / 2, 0, side / 2, side / 2, side / 2);
  soft.addColorStop(0, "rgba(255,255,255,1)");
  soft.addColorStop(1, "rgba(255,255,255,0)");
  pen.fillStyle = soft;
  pen.fillRect(0, 0, side, side);
  disc = new THREE.CanvasTexture(canvas);
  return disc;
}
