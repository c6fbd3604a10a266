// The timeline: when feet stand and hands touch, how far each part is off, what is worth seeing; and where we are.
import { element } from "./look.js";

const WIDE = 1000;
// Degrees, or percent: a part that is never further off has no row.
const WORTH = 0.5;

export class Timeline {
  constructor(holder, stage, player) {
    this.holder = holder;
    this.stage = stage;
    this.player = player;
    this.needle = element("div");
    this.needle.id = "needle";
    new ResizeObserver(() => this.place()).observe(holder);
  }

  // The rows of an act.
  show(seconds) {
    this.seconds = Math.max(seconds, 1e-6);
    this.holder.replaceChildren();
    this.ruler = this.row("", "ruler");
    this.ticks();
    this.loop = element("div", "loop");
    this.loop.hidden = true;
    this.ruler.append(this.loop);
    this.seekable(this.ruler);
    const several = this.stage.shown.length > 1;
    for (const { figure } of this.stage.shown) {
      const { clip, data } = figure;
      if (!clip) continue;
      if (several) this.holder.append(element("div", "whose", data.title));
      if (clip.pieces.length) this.pieces(clip.pieces);
      if (clip.marks.length) this.marks(clip.marks);
      for (const [part, curve] of Object.entries(clip.curves ?? {})) {
        if (Math.max(...curve.values) >= WORTH) this.curve(part, curve);
      }
      for (const [name, spans] of Object.entries(clip.contacts)) this.contacts(name, spans);
    }
    this.holder.append(this.needle);
    this.time(0);
  }

  row(label, kind = "") {
    const row = element("div", `row ${kind}`);
    const said = element("div", "label", label);
    said.title = label;
    const track = element("div", "track");
    row.append(said, track);
    this.holder.append(row);
    return track;
  }

  ticks() {
    const steps = [0.1, 0.25, 0.5, 1, 2, 5, 10, 30, 60, 300, 600];
    const step = steps.find((each) => this.seconds / each <= 12) ?? 3600;
    for (let at = 0; at <= this.seconds + 1e-9; at += step) {
      const tick = element("div", "tick", `${Number(at.toFixed(2))} s`);
      tick.style.left = `${(100 * at) / this.seconds}%`;
      this.ruler.append(tick);
    }
  }

  contacts(name, spans) {
    if (!spans.length) return;
    const side = name.startsWith("left") ? "left" : "right";
    const track = this.row(name);
    for (const [from, to] of spans) {
      const bar = element("div", `bar ${side}`);
      bar.style.left = `${(100 * from) / this.seconds}%`;
      bar.style.width = `${(100 * (to - from)) / this.seconds}%`;
      bar.title = `${name} ${from.toFixed(2)} to ${to.toFixed(2)} s`;
      track.append(bar);
    }
    this.seekable(track);
  }

  // What a clip is made of, or was cut into; a press loops that piece.
  pieces(pieces) {
    const track = this.row("pieces", "pieces");
    for (const { from, to, name } of pieces) {
      const bar = element("button", "piece", name);
      bar.style.left = `${(100 * from) / this.seconds}%`;
      bar.style.width = `${(100 * (to - from)) / this.seconds}%`;
      bar.title = `${name}: ${from.toFixed(2)} to ${to.toFixed(2)} s; press to loop it`;
      bar.addEventListener("click", () => this.player.loop(from, to));
      track.append(bar);
    }
  }

  // A filled curve; the scale is the same for all in degrees, so that what is taller is further off.
  curve(part, { unit, every, start, values }) {
    const most = Math.max(...values);
    const scale = unit === "°" ? Math.max(30, most) : Math.max(20, most);
    const track = this.row(part, "curve");
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("viewBox", `0 0 ${WIDE} 100`);
    svg.setAttribute("preserveAspectRatio", "none");
    const x = (number) => (WIDE * (start + number * every)) / this.seconds;
    const points = values.map((value, number) => `${x(number).toFixed(1)},${(100 - (96 * value) / scale).toFixed(1)}`);
    const path = document.createElementNS("http://www.w3.org/2000/svg", "path");
    path.setAttribute("d", `M${x(0).toFixed(1)},100 L${points.join(" L")} L${x(values.length - 1).toFixed(1)},100 Z`);
    path.setAttribute("fill", "#8a1f5c");
    path.setAttribute("fill-opacity", "0.75");
    svg.append(path);
    track.append(svg, element("span", "scale", `off by up to ${most.toFixed(1)}${unit === "°" ? unit : ` ${unit}`}`));
    this.seekable(track);
  }

  marks(marks) {
    const track = this.row("worth a look");
    for (const { at, text } of marks) {
      const flag = element("button", "flag", "▲");
      flag.style.left = `${(100 * at) / this.seconds}%`;
      flag.title = `${at.toFixed(2)} s: ${text}`;
      flag.setAttribute("aria-label", flag.title);
      flag.addEventListener("click", () => this.player.seek(at));
      track.append(flag);
    }
  }

  // A press or a drag on a track goes there.
  seekable(track) {
    const go = (event) => {
      const { left, width } = track.getBoundingClientRect();
      this.player.seek(((event.clientX - left) / width) * this.seconds);
    };
    track.addEventListener("pointerdown", (event) => {
      track.setPointerCapture(event.pointerId);
      go(event);
    });
    track.addEventListener("pointermove", (event) => track.hasPointerCapture(event.pointerId) && go(event));
  }

  looped(from, to) {
    this.loop.hidden = from === null;
    if (from === null) return;
    this.loop.style.left = `${(100 * from) / this.seconds}%`;
    this.loop.style.width = `${(100 * (to - from)) / this.seconds}%`;
  }

  time(seconds) {
    this.now = seconds;
    this.place();
  }

  place() {
    if (!this.ruler) return;
    this.needle.style.left = `${this.ruler.offsetLeft + (this.ruler.clientWidth * (this.now ?? 0)) / this.seconds}px`;
    this.needle.style.height = `${this.holder.scrollHeight}px`;
  }
}
