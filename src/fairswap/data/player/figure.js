// A figure that plays: its glTF, its clips, its bones by number, and its morphs.
import { THREE, GLTFLoader } from "three";
import { GHOST } from "./look.js";
import { SoftSkin } from "./soft.js";

const HIPS = "hips";

export class Figure {
  static async load(bytes, data) {
    const gltf = await new GLTFLoader().parseAsync(bytes.buffer, "");
    const bones = await Promise.all(data.bones.map((_, number) => gltf.parser.getDependency("node", number + 1)));
    const figure = new Figure(gltf, bones, data);
    await figure.findMeshes(gltf.parser);
    return figure;
  }

  constructor(gltf, bones, data) {
    this.data = data;
    this.bones = bones;
    this.group = new THREE.Group();
    this.group.add(gltf.scene);
    this.meshes = [];
    gltf.scene.traverse((node) => {
      if (!node.isMesh) return;
      node.frustumCulled = false; // its skin is elsewhere than its geometry
      this.meshes.push(node);
    });
    this.drawn = this.meshes;
    this.skins = [];
    this.animations = gltf.animations;
    this.mixer = new THREE.AnimationMixer(gltf.scene);
    this.clip = null;
    this.held = new Map(); // morphs that a hand has moved: "mesh/morph" to weight
    this.boneOf = new Map(data.bones.map((bone, number) => [bone.role, number]).filter(([role]) => role));
    this.group.updateMatrixWorld(true);
  }

  // The clip that plays in an act; at rest if there is none.
  act(name) {
    const number = this.data.clips.findIndex((clip) => clip.act === name);
    this.mixer.stopAllAction();
    this.clip = number < 0 ? null : this.data.clips[number];
    this.action = null;
    if (this.clip) {
      this.action = this.mixer.clipAction(this.animations[number]);
      this.action.setLoop(THREE.LoopOnce, 1);
      this.action.clampWhenFinished = true;
      this.action.play();
    }
  }

  time(seconds) {
    if (this.action) {
      // A clip that has ended holds its last frame; playing it anew lets it be sought back.
      this.action.paused = false;
      this.action.enabled = true;
      this.action.time = Math.min(seconds, this.action.getClip().duration);
      this.mixer.update(0);
    }
    for (const [key, weight] of this.held) {
      const [mesh, morph] = key.split("/").map(Number);
      for (const node of this.meshesOf(mesh)) node.morphTargetInfluences[morph] = weight;
    }
    this.group.updateMatrixWorld(true);
  }

  // The drawn parts of one mesh: one for each of its materials.
  meshesOf(mesh) {
    this.parts ??= new Map();
    if (!this.parts.has(mesh)) {
      const own = this.meshes.filter((node) => this.numberOf(node) === mesh && node.morphTargetInfluences);
      this.parts.set(mesh, own);
    }
    return this.parts.get(mesh);
  }

  // Which mesh a drawn part is of: mesh nodes follow the bones in the file.
  numberOf(node) {
    for (let at = node; at; at = at.parent) {
      if (this.roots.has(at)) return this.roots.get(at);
    }
    return -1;
  }

  async findMeshes(parser) {
    this.roots = new Map();
    const first = this.bones.length + 1;
    for (let mesh = 0; mesh < this.data.meshes.length; mesh += 1) {
      this.roots.set(await parser.getDependency("node", first + mesh), mesh);
    }
  }

  weight(mesh, morph) {
    return this.meshesOf(mesh)[0]?.morphTargetInfluences[morph] ?? 0;
  }

  place(bone, into = new THREE.Vector3()) {
    return into.setFromMatrixPosition(this.bones[bone].matrixWorld);
  }

  roleAt(role, into = new THREE.Vector3()) {
    return this.boneOf.has(role) ? this.place(this.boneOf.get(role), into) : null;
  }

  hips(into = new THREE.Vector3()) {
    return this.roleAt(HIPS, into) ?? this.place(0, into);
  }

  get size() {
    return this.data.height * this.group.scale.x;
  }

  // Its skins worked out by the processor.
  softly() {
    const groups = new Map();
    for (const mesh of this.meshes.filter((each) => each.isSkinnedMesh && each.geometry.attributes.normal)) {
      const key = mesh.geometry.attributes.position;
      groups.set(key, [...(groups.get(key) ?? []), mesh]);
    }
    this.skins = [...groups.values()].map((parts) => new SoftSkin(parts));
    for (const parts of groups.values()) for (const mesh of parts) mesh.visible = false;
    this.drawn = this.meshes.filter((mesh) => mesh.visible);
    for (const skin of this.skins) {
      this.group.add(...skin.meshes);
      this.drawn.push(...skin.meshes);
    }
  }

  beforeDrawn() {
    for (const skin of this.skins) if (skin.meshes.some((mesh) => mesh.visible)) skin.update();
  }

  // As a ghost it is grey and seen through.
  ghost(on) {
    for (const mesh of this.drawn) {
      mesh.userData.own ??= mesh.material;
      if (on && !mesh.userData.ghost) {
        mesh.userData.ghost = new THREE.MeshLambertMaterial({ color: GHOST, transparent: true, opacity: 0.38, depthWrite: false });
      }
      mesh.material = on ? mesh.userData.ghost : mesh.userData.own;
      mesh.renderOrder = on ? 1 : 0;
    }
  }
}
