// Colours, as in the sheets: left and right differ in lightness, too, and bars on the timeline in pattern.
import { THREE } from "three";

export const LEFT = new THREE.Color("#d9731a");
export const RIGHT = new THREE.Color("#1f6bc7");
export const MIDDLE = new THREE.Color("#45454d");
export const MARK = new THREE.Color("#c2187a");
export const PAPER = new THREE.Color("#f6f4ef");
export const GRID = ["#b9b3a6", "#dcd7cc"];
export const GHOST = new THREE.Color("#8f97a3");

export const colorOf = (side) => (side === "left" ? LEFT : side === "right" ? RIGHT : MIDDLE);

// An element with a class and a text; the text of a stranger's file stays text.
export function element(tag, className = "", text = "") {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text) made.textContent = text;
  return made;
}
