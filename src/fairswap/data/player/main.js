// The player: what is pressed, what time it is, and everything in step with it.
import { element } from "./look.js";
import { Figure } from "./figure.js";
import { VIEWS } from "./camera.js";
import { Stage } from "./stage.js";
import { Timeline } from "./timeline.js";
import { Sidebar } from "./sidebar.js";

const SPEEDS = [0.25, 0.5, 1, 1.5, 2];
const STEP_S = 0.5;
const $ = (id) => document.getElementById(id);

export async function start(scene, bytes, licences) {
  const figures = await Promise.all(scene.figures.map((data, number) => Figure.load(bytes[number], data)));
  let stage;
  try {
    stage = new Stage(figures, $("canvas"), $("panels"));
  } catch (error) {
    throw new Error(`This browser has no WebGL, which figures are drawn with (${error.message}).`);
  }
  const player = new Player(scene, stage, licences);
  player.act(scene.acts[0] ?? "");
  player.run();
  return player;
}

class Player {
  constructor(scene, stage, licences) {
    Object.assign(this, { scene, stage, licences, now: 0, playing: false, speed: 1, from: null, to: null, drawn: 0, dirty: true });
    this.timeline = new Timeline($("timeline"), stage, this);
    this.sidebar = new Sidebar($("side"), stage, this);
    $("title").textContent = scene.title;
    $("title").title = scene.title;
    this.controls();
    this.pointer();
    document.addEventListener("keydown", (event) => this.key(event));
    new ResizeObserver(() => {
      stage.arrange();
      this.dirty = true;
    }).observe($("stage"));
    for (const actor of stage.actors) actor.eye.controls.addEventListener("change", () => (this.dirty = true));
  }

  controls() {
    const { acts } = this.scene;
    $("act").append(...acts.map((name) => new Option(name, name)));
    $("act-field").hidden = acts.length < 2;
    $("act").addEventListener("change", () => this.act($("act").value));
    for (const name of Object.keys(VIEWS)) {
      const button = element("button", "", name);
      button.addEventListener("click", () => this.view(name));
      $("views").append(button);
    }
    $("speed").append(...SPEEDS.map((speed) => new Option(`${speed}×`, speed, speed === 1, speed === 1)));
    $("speed").addEventListener("change", () => (this.speed = Number($("speed").value)));
    const presses = {
      play: () => this.play(!this.playing), back: () => this.frame(-1), on: () => this.frame(1),
      "mark-in": () => this.mark("from"), "mark-out": () => this.mark("to"), "mark-none": () => this.unmark(),
      beside: () => this.over(false), over: () => this.over(true),
    };
    for (const [id, pressed] of Object.entries(presses)) $(id).addEventListener("click", pressed);
    const switches = { lock: "locked", follow: "following" };
    for (const [id, name] of Object.entries(switches)) this.toggle(id, () => (this.stage[name] = !this.stage[name]));
    this.stage.bonesShown = true;
    this.toggle("bones", () => {
      this.stage.bonesShown = !this.stage.bonesShown;
      this.stage.arrange();
      return this.stage.bonesShown;
    });
    let skin = true;
    this.toggle("skin", () => {
      skin = !skin;
      for (const { figure } of this.stage.actors) for (const mesh of figure.drawn) mesh.visible = skin;
      return skin;
    });
    const many = this.stage.actors.length > 1;
    for (const id of ["beside", "over", "lock"]) $(id).hidden = !many;
  }

  toggle(id, change) {
    $(id).addEventListener("click", () => {
      $(id).setAttribute("aria-pressed", String(change()));
      this.dirty = true;
    });
  }

  act(name) {
    this.name = name;
    $("act").value = name;
    for (const actor of this.stage.actors) {
      actor.figure.act(name);
      actor.playing = Boolean(actor.figure.clip) || !actor.figure.data.clips.length;
      const { clip } = actor.figure;
      const note = clip?.note ? ` · ${clip.note}` : "";
      const about = clip ? `${clip.name} · ${clip.seconds.toFixed(2)} s at ${Number(clip.rate.toFixed(3))}${note}` : "at rest";
      actor.panel.querySelector(".name").replaceChildren(actor.figure.data.title, element("small", "", about));
    }
    const clips = this.stage.shown.map(({ figure }) => figure.clip).filter(Boolean);
    this.seconds = Math.max(0, ...clips.map((clip) => clip.seconds));
    this.rate = Math.max(1, ...clips.map((clip) => clip.rate));
    const judged = clips.filter((clip) => clip.verdict);
    $("verdict").textContent = judged.map((clip) => clip.verdict).join("; ");
    $("verdict").title = $("verdict").textContent;
    this.stage.following && this.stage.actors.forEach((actor) => (actor.eye.last = null));
    this.stage.time(0);
    this.stage.arrange();
    this.view("Front");
    this.timeline.show(this.seconds);
    this.unmark();
    this.sidebar.open(this.sidebar.tab);
    this.seek(0);
  }

  view(name) {
    this.stage.view(name);
    this.dirty = true;
  }

  over(on) {
    this.stage.over = on;
    $("beside").setAttribute("aria-pressed", String(!on));
    $("over").setAttribute("aria-pressed", String(on));
    this.stage.arrange();
    this.view("Front");
  }

  play(on) {
    this.playing = on && this.seconds > 0;
    $("play").textContent = this.playing ? "❚❚" : "▶";
    if (this.playing && this.now >= this.end - 1e-6) this.seek(this.begin);
  }

  get begin() {
    return this.from ?? 0;
  }

  get end() {
    return this.to ?? this.seconds;
  }

  seek(seconds) {
    this.now = Math.min(Math.max(seconds, 0), this.seconds);
    this.refresh();
  }

  refresh() {
    this.stage.time(this.now);
    this.timeline.time(this.now);
    this.sidebar.time();
    $("clock").textContent = `${this.now.toFixed(2)} of ${this.seconds.toFixed(2)} s · frame ${Math.round(this.now * this.rate)}`;
    this.dirty = true;
  }

  frame(way) {
    this.play(false);
    this.seek((Math.round(this.now * this.rate) + way) / this.rate);
  }

  mark(which) {
    this[which] = this.now;
    if (which === "from" && (this.to ?? this.seconds) <= this.now) this.to = null;
    if (which === "to" && (this.from ?? 0) >= this.now) this.from = null;
    this.timeline.looped(this.begin, this.end);
  }

  loop(from, to) {
    [this.from, this.to] = [from, to];
    this.timeline.looped(from, to);
    this.seek(from);
  }

  unmark() {
    this.from = this.to = null;
    this.timeline.looped(null, null);
  }

  // A role marked on all figures.
  choose(role) {
    for (const actor of this.stage.actors) {
      const bone = actor.figure.boneOf.get(role) ?? -1;
      actor.bones.mark(bone);
      actor.panel.querySelector(".marked").textContent = bone < 0 ? "" : `${role.replaceAll("_", " ")}: ${actor.figure.data.bones[bone].name}`;
    }
    this.sidebar.choose(role);
    this.dirty = true;
  }

  // A bone under the pointer says its name; pressed, it is marked, on the others by its role.
  pointer() {
    for (const actor of this.stage.actors) {
      let pressed = null;
      const under = (event) => {
        const { left, top, width, height } = actor.panel.getBoundingClientRect();
        return actor.bones.nearest(event.clientX - left, event.clientY - top, actor.eye.camera, width, height);
      };
      actor.panel.addEventListener("pointermove", (event) => {
        const bone = this.stage.bonesShown && !event.buttons ? under(event) : -1;
        $("hover").hidden = bone < 0;
        if (bone < 0) return;
        const { name, role } = actor.figure.data.bones[bone];
        $("hover").textContent = role ? `${name} · ${role.replaceAll("_", " ")}` : name;
        const { left, top } = $("stage").getBoundingClientRect();
        $("hover").style.left = `${event.clientX - left + 12}px`;
        $("hover").style.top = `${event.clientY - top + 10}px`;
      });
      actor.panel.addEventListener("pointerleave", () => ($("hover").hidden = true));
      actor.panel.addEventListener("pointerdown", (event) => (pressed = [event.clientX, event.clientY]));
      actor.panel.addEventListener("pointerup", (event) => {
        if (!pressed || Math.hypot(event.clientX - pressed[0], event.clientY - pressed[1]) > 4) return;
        const bone = under(event);
        const { role, name } = actor.figure.data.bones[bone] ?? {};
        this.choose(role || "");
        if (bone >= 0 && !role) {
          actor.bones.mark(bone);
          actor.panel.querySelector(".marked").textContent = name;
        }
      });
    }
  }

  key(event) {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.matches("select, input[type=text]")) return;
    const number = Number(event.key);
    const keys = {
      " ": () => this.play(!this.playing), ",": () => this.frame(-1), ".": () => this.frame(1),
      ArrowLeft: () => this.seek(this.now - STEP_S), ArrowRight: () => this.seek(this.now + STEP_S),
      ArrowUp: () => this.faster(1), ArrowDown: () => this.faster(-1),
      Home: () => this.seek(0), End: () => this.seek(this.seconds),
      "[": () => this.mark("from"), "]": () => this.mark("to"), "\\": () => this.unmark(),
    };
    const pressed = keys[event.key] ?? (number >= 1 && number <= 7 ? () => this.view(Object.keys(VIEWS)[number - 1]) : null);
    if (!pressed || (event.target.matches("input") && event.key.startsWith("Arrow"))) return;
    event.preventDefault();
    if (event.target instanceof HTMLButtonElement) event.target.blur(); // a space plays, and presses nothing
    pressed();
  }

  faster(way) {
    const at = Math.min(Math.max(SPEEDS.indexOf(this.speed) + way, 0), SPEEDS.length - 1);
    this.speed = SPEEDS[at];
    $("speed").value = String(this.speed);
  }

  run() {
    let before = performance.now();
    const tick = (now) => {
      const passed = Math.min((now - before) / 1000, 0.25);
      before = now;
      if (this.playing) {
        let next = this.now + passed * this.speed;
        if (next > this.end) next = this.begin + ((next - this.begin) % Math.max(this.end - this.begin, 1e-3));
        this.seek(next);
      }
      if (this.dirty) {
        this.dirty = false;
        this.stage.draw();
        this.drawn += 1;
      }
      requestAnimationFrame(tick);
    };
    requestAnimationFrame(tick);
  }

  // For tests: where a bone is on the page, in metres.
  bone(figure, bone) {
    return this.stage.actors[figure].figure.place(bone).toArray();
  }
}
