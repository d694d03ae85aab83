// What several panels are made of.

import { h } from "./dom.js";
import { figure } from "./looks.js";

/** Names and what they are; those that are empty are left out. @param {[string, string | Node | null | undefined][]} rows */
export const facts = (rows) => h("dl.facts", {}, ...rows.filter(([, text]) => text).flatMap(([name, text]) => [h("dt", {}, name), h("dd", {}, /** @type {Node} */ (text))]));

/** A word for a command line. @param {string} word */
export const quoted = (word) => (/^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`);

/** A slider with its value beside it. @param {string} name
 * @param {{value: number, min: number, max: number, step: number, usual: number, title?: string, text?: (value: number) => string}} how
 * @param {(value: number) => void} told */
export function slider(name, how, told) {
  const text = how.text ?? figure, shown = h("output", {}, text(how.value));
  const range = /** @type {HTMLInputElement} */ (h("input", { type: "range", min: how.min, max: how.max, step: how.step, "aria-label": name }));
  const set = (/** @type {number} */ value) => { range.value = String(value); shown.textContent = text(value); told(value); };
  range.value = String(how.value);
  if (how.text) range.setAttribute("aria-valuetext", text(how.value));
  range.addEventListener("input", () => { shown.textContent = text(Number(range.value)); told(Number(range.value)); });
  range.addEventListener("dblclick", () => set(how.usual));
  return h("div.slider", { title: how.title }, h("span", {}, name), range, shown);
}

/** The file of a cell's plan, and its address there. @param {import("./store.js").Told} told @param {import("./store.js").Cell} cell @returns {[string, string]} */
export const inPlan = (told, cell) => [`${cell.p ?? told.plan}.lattice.yaml`, cell.p ? cell.a.slice(cell.p.length + 2) : cell.a];

/** Those cells that have an entry with a cell in common: of the first axis with several, which is where artists put lights.
 * @param {import("./store.js").Told} told @param {import("./store.js").Cell} cell @returns {[string, string] | null} axis and entry */
export function likeOf(told, cell) {
  const k = told.axes.findIndex((axis, n) => axis.entries.length > 1 && cell.at[n] >= 0 && !(cell.p && n === 0));
  return k < 0 ? null : [told.axes[k].name, told.axes[k].entries[cell.at[k]]];
}
