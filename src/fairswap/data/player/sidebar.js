// Beside the stage: which bone is which, the morphs as sliders, and what there is to tell.
import { element } from "./look.js";

const TABS = ["Roles", "Face", "Findings"];

export class Sidebar {
  constructor(side, stage, player) {
    this.tabs = side.querySelector(".tabs");
    this.body = side.querySelector("#tab-body");
    this.stage = stage;
    this.player = player;
    this.sliders = [];
    this.tab = TABS[0];
    for (const name of TABS) {
      const button = element("button", "", name);
      button.setAttribute("role", "tab");
      button.addEventListener("click", () => this.open(name));
      this.tabs.append(button);
    }
  }

  open(name) {
    this.tab = name;
    for (const button of this.tabs.children) button.setAttribute("aria-selected", String(button.textContent === name));
    this.body.replaceChildren();
    this.sliders = [];
    ({ Roles: () => this.roles(), Face: () => this.morphs(), Findings: () => this.findings() })[name]();
  }

  // A row for each role that any figure has, with its bone in each.
  roles() {
    const figures = this.stage.shown.map((actor) => actor.figure);
    const rows = new Map();
    for (const figure of figures) for (const row of figure.data.roles) rows.set(row.role, [...(rows.get(row.role) ?? []), [figure, row]]);
    if (!rows.size) this.body.append(element("p", "empty", "No bones are known: fairswap bones draft finds out which is which."));
    for (const [role, known] of rows) {
      const row = element("button", "role");
      row.dataset.role = role;
      const worst = ["missing", "guessed", "matched"].find((state) => known.some(([, one]) => one.state === state));
      const side = role.endsWith("_left") ? "left" : role.endsWith("_right") ? "right" : "";
      const names = known.map(([figure, one]) => (one.bone < 0 ? "–" : figure.data.bones[one.bone].name));
      row.append(element("b", side, role.replaceAll("_", " ")), element("span", "", [...new Set(names)].join(" · ")), element("i", worst, worst));
      row.title = known.map(([figure, one], number) => `${figure.data.title}: ${names[number]} (${one.state})`).join("\n");
      row.addEventListener("click", () => this.player.choose(role));
      this.body.append(row);
    }
    this.choose(this.chosen);
  }

  choose(role) {
    this.chosen = role;
    for (const row of this.body.querySelectorAll(".role")) {
      row.classList.toggle("chosen", row.dataset.role === role);
      if (row.dataset.role === role) row.scrollIntoView({ block: "nearest" });
    }
  }

  // A slider for each morph: it goes with the clip, until a hand takes it; pressing its number lets it go.
  morphs() {
    for (const { figure } of this.stage.shown) {
      const meshes = figure.data.meshes.map((mesh, number) => [number, mesh]).filter(([, mesh]) => mesh.morphs.length);
      if (!meshes.length) continue;
      this.body.append(element("h2", "", figure.data.title));
      for (const [number, mesh] of meshes) mesh.morphs.forEach((name, morph) => this.body.append(this.slider(figure, number, morph, name)));
    }
    if (!this.sliders.length) this.body.append(element("p", "empty", "No morphs."));
    this.time();
  }

  slider(figure, mesh, morph, name) {
    const key = `${mesh}/${morph}`;
    const row = element("div", "morph");
    const label = element("label", "", name);
    label.title = name;
    const input = element("input");
    Object.assign(input, { type: "range", min: "0", max: "1", step: "0.01", id: `morph-${this.sliders.length}` });
    label.htmlFor = input.id;
    const said = element("output");
    said.title = "Let it go with the clip again";
    row.append(label, input, said);
    const held = () => row.classList.toggle("held", figure.held.has(key));
    input.addEventListener("input", () => {
      figure.held.set(key, Number(input.value));
      held();
      this.player.refresh();
    });
    said.addEventListener("click", () => {
      figure.held.delete(key);
      for (const node of figure.meshesOf(mesh)) node.morphTargetInfluences[morph] = 0;
      held();
      this.player.refresh();
    });
    held();
    this.sliders.push({ input, said, weight: () => figure.weight(mesh, morph) });
    return row;
  }

  findings() {
    let any = false;
    for (const { figure } of this.stage.shown) {
      const { clip, data } = figure;
      const marks = clip?.marks ?? [];
      if (!data.findings.length && !marks.length && !clip?.verdict) continue;
      any = true;
      this.body.append(element("h2", "", data.title));
      if (clip?.verdict) this.body.append(element("p", "", clip.verdict));
      for (const { at, text } of marks) {
        const row = element("button", "mark-row", `${at.toFixed(2)} s: ${text}`);
        row.addEventListener("click", () => this.player.seek(at));
        this.body.append(row);
      }
      for (const { severity, place, message, remedy } of data.findings) {
        const row = element("div", `finding ${severity}`);
        row.append(element("b", "", `${severity} · ${place}`), element("div", "", message));
        if (remedy) row.append(element("div", "empty", `${remedy}.`));
        this.body.append(row);
      }
    }
    if (!any) this.body.append(element("p", "empty", "Nothing to tell."));
    const about = element("button", "mark-row", "Licences of what draws this page");
    about.addEventListener("click", async () => {
      const text = element("pre", "empty", await this.player.licences());
      about.replaceWith(text);
    });
    this.body.append(element("h2", "", "About"), about);
  }

  time() {
    for (const { input, said, weight } of this.sliders) {
      const value = weight();
      if (value < Number(input.min)) input.min = "-1";
      if (value > Number(input.max)) input.max = String(Math.ceil(value));
      if (document.activeElement !== input || !input.matches(":active")) input.value = String(value);
      said.textContent = value.toFixed(2);
    }
  }
}
