// What is in focus: a click on a picture, or two sliders; handed back as settings.

import { h } from "./dom.js";
import { blurOf } from "./lens.js";
import { slider } from "./parts.js";

/** @typedef {import("./main.js").Page} Page */

const NEAR = -1.5, FAR = 3; // powers of ten of metres

/** @param {number} metres */
const distance = (metres) => (metres < 1 ? `${(100 * metres).toFixed(1)} cm` : `${metres.toFixed(metres < 10 ? 2 : 1)} m`);

/** @param {Page} page @returns {HTMLElement} */
export function lens(page) {
  const { told, state, store } = page, index = state.panes[state.active] ?? state.at, here = told.cells[index], frame = page.panes.frameOf(index);
  const made = (/** @type {(Node | string | false)[]} */ ...parts) => h("section", {}, h("h2", {}, "Lens"), ...parts);
  if (frame === undefined || !store.has(here, frame, "depth") || !store.has(here, frame, "beauty")) {
    return made(h("p", {}, "This cell has no depth to throw out of focus by. Add ", h("code", {}, "depth"), " to its passes."));
  }
  const picture = store.now(here, frame, "beauty");
  if (!picture || !store.now(here, frame, "depth")) {
    Promise.all(["beauty", "depth"].map((pass) => store.load(here, frame, pass))).then(([one, other]) => { if (one && other && page.state.panel === "lens") page.drawSide(); });
    return made(h("p.faint", {}, "…"));
  }
  if (!picture.lens) return made(h("p", {}, "Its file says nothing of a lens: it is of a panorama, a parallel camera, another renderer or an earlier version."));
  const own = picture.lens, [focus, fstop] = state.lens.length ? state.lens : [own[2] || 3, own[1] || 2.8];
  const set = (/** @type {number} */ far, /** @type {number} */ stop) => page.update({ lens: [+far.toPrecision(4), +stop.toFixed(2)] }, true);
  const now = () => (page.state.lens.length ? page.state.lens : [focus, fstop]);
  const settings = () => ({ fstop: now()[1], focus: `${+now()[0].toPrecision(4)} m` });
  const command = () => `rules:  # beside those that the plan has\n  - at: ${page.matchOf(here)}\n    fstop: ${settings().fstop}\n    focus: ${settings().focus}\n`;
  return made(
    h("p.faint", {}, state.view === "panes" ? "A click on the picture puts what is there in focus." : "Look at the cell, and click on what is to be in focus."),
    slider("in focus", { value: Math.log10(focus), min: NEAR, max: FAR, step: 0.01, usual: Math.log10(own[2] || 3), text: (value) => distance(10 ** value) }, (value) => set(10 ** value, now()[1])),
    slider("f-number", { value: fstop, min: 0.7, max: 22, step: 0.1, usual: own[1] || 2.8, text: (value) => `f/${value.toFixed(1)}` }, (value) => set(now()[0], value)),
    h("p.faint", {}, `${(1000 * own[0]).toFixed(0)} mm; what is endlessly far away is ${(2 * blurOf(own, { focus, fstop }, Infinity)).toFixed(1)} pixels wide.`,
      own[1] ? ` The cell was rendered at f/${own[1].toFixed(1)}, in focus at ${distance(own[2])}: what is out of focus in it stays so.` : ""),
    h("div.tools", {}, h("button", { onclick: () => page.update({ lens: [] }) }, "As it was"),
      h("button", { onclick: () => page.handOn("Settings of this lens", command(), { order: "amend", at: page.likes(here), settings: settings() }) }, "Hand back …")));
}
