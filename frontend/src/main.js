// The page: what is looked at, who draws it, what keys do.

import { Kept, merged } from "./choices.js";
import { h } from "./dom.js";
import { Matrix } from "./matrix.js";
import { PANELS, panel } from "./panels.js";
import { inPlan, likeOf, quoted } from "./parts.js";
import { Panes } from "./panes.js";
import { OTHERS, along, asHash, first, fromHash } from "./state.js";
import { Served } from "./served.js";
import { SERVED, Store } from "./store.js";

/** @typedef {import("./state.js").State} State */
/** @typedef {import("./store.js").Choice} Choice */

const KEYS = [
  ["arrows", "to the next cell; in panes along the axis that is dragged"], ["Enter", "look at the cell, or at those picked"],
  ["Space", "pick a cell to stand beside others"], ["Esc", "back to all cells"], ["Tab", "to the next pane"],
  ["1 – 9, [ ]", "which pass"], ["− +", "half a stop darker, brighter"], ["0", "as exposed by the plan"], ["d", "next display"],
  ["w  f  x  s", "wipe, flip, difference, side by side"], ["r", "flip to the other"], ["z", "fitted, or one pixel to one"], ["u", "panes together, or each by itself"], ["e", "eyes of a stereo panorama: both, left, right"],
  [", .", "frame before, after"], ["p", "play"], ["k  m  o", "keep, maybe, out"], ["n", "a note"], ["y  v  l  g  a  j  c", "why, pixel, light, grade, lens, figures, cell"],
  ["/", "search"], ["b", "surroundings"], ["?", "these keys"],
];

export class Page {
  /** @param {Store} store @param {HTMLElement} root */
  constructor(store, root) {
    this.store = store;
    /** @type {Served | null} */
    this.served = null;
    this.told = store.told;
    this.usual = first(this.told);
    this.state = fromHash(location.hash, this.usual, this.told);
    /** @type {Record<string, Choice>} */
    this.choices = this.told.choices ?? {};
    this.kept = new Kept(`${this.told.id}:${this.told.plan}`);
    /** @type {((place: {x: number, y: number, pane: number} | null) => void) | null} */
    this.readInto = null;
    /** @type {((layers: unknown[]) => void) | undefined} */
    this.painted = undefined;
    this.matrix = new Matrix(this);
    this.panes = new Panes(this);
    this.bar = h("header");
    this.stage = h("main");
    this.strip = h("div.strip");
    this.side = h("aside", { "aria-label": "beside the pictures" });
    this.message = h("p.message", { role: "status" });
    root.replaceChildren(this.bar, this.stage, this.side, this.strip, this.message);
    document.addEventListener("keydown", (event) => this.key(event));
    window.addEventListener("hashchange", () => { this.state = fromHash(location.hash, this.usual, this.told); this.draw(); });
    this.draw();
    this.served = SERVED ? new Served(this) : null;
    this.kept.read().then((found) => this.setChoices(merged(this.choices, found), false));
  }

  /** Change what is looked at. @param {Partial<State>} change @param {boolean} [dragging] a slider is held: it stays as it is */
  update(change, dragging = false) {
    const before = this.state;
    this.state = { ...before, ...change };
    clearTimeout(this.writing);
    this.writing = setTimeout(() => history.replaceState(null, "", asHash(this.state, this.usual) || location.pathname + location.search), 150);
    const only = (/** @type {string[]} */ ...keys) => Object.keys(change).every((key) => keys.includes(key));
    if (dragging && this.state.view === "matrix") return this.matrix.draw();
    if (dragging || (this.state.view === "panes" && only("x", "y", "zoom", "views", "wipe", "turn"))) return this.panes.soon();
    if (this.state.view === "matrix" && only("at")) {
      this.matrix.draw();
      return this.drawSide();
    }
    this.draw();
  }

  draw() {
    const { state } = this;
    document.body.dataset.around = state.around;
    document.body.dataset.view = state.view;
    this.drawBar();
    const shown = state.view === "matrix" ? this.matrix : this.panes;
    if (this.stage.firstChild !== shown.element) this.stage.replaceChildren(shown.element);
    if (state.view === "matrix") this.matrix.draw();
    else this.panes.soon();
    if (state.view === "panes") this.served?.showing(state.panes.map((index) => this.told.cells[index].a));
    this.drawStrip();
    this.drawSide();
  }

  /** @param {string} name @param {string} value @param {(string | [string, string])[]} options @param {(value: string) => void} told */
  select(name, value, options, told) {
    return h("label.choose", {}, h("span", {}, name), h("select", { onchange: (/** @type {Event} */ event) => told(/** @type {HTMLSelectElement} */ (event.target).value) },
      ...options.map((each) => { const [key, text] = Array.isArray(each) ? each : [each, each]; return h("option", { value: key, selected: key === value }, text); })));
  }

  drawBar() {
    if (this.bar.contains(document.activeElement) && document.activeElement?.tagName === "INPUT") return;
    const { state, told } = this, axes = told.axes.filter((axis) => axis.entries.length > 1);
    const names = axes.map((axis) => axis.name);
    const views = h("div.views", { role: "group", "aria-label": "view" },
      h("button", { "aria-pressed": String(state.view === "matrix"), onclick: () => this.update({ view: "matrix" }) }, "All"),
      h("button", { "aria-pressed": String(state.view === "panes"), onclick: () => this.lookAt(state.panes.length ? state.panes : [state.at]) }, `Look${state.panes.length ? ` ${state.panes.length}` : ""}`));
    const search = h("input", { type: "search", value: state.search, placeholder: "search", "aria-label": "search cells", oninput: (/** @type {Event} */ event) => this.update({ search: /** @type {HTMLInputElement} */ (event.target).value }) });
    const tools = state.view === "matrix" ? [
      this.select("down", state.rows, [[OTHERS, "the others"], ...names, ["", "–"]], (rows) => this.update({ rows, cols: rows === state.cols ? "" : state.cols })),
      this.select("across", state.cols, [...names, ["", "–"]], (cols) => this.update({ cols, rows: cols === state.rows ? OTHERS : state.rows })),
      ...axes.map((axis) => this.select(axis.name, state.only[axis.name] ?? "", [["", "all"], ...axis.entries], (entry) => {
        const only = { ...state.only };
        if (entry) only[axis.name] = entry;
        else delete only[axis.name];
        this.update({ only });
      })),
      this.select("choice", state.choice, [["", "all"], "keep", "maybe", "out", ["none", "open"]], (choice) => this.update({ choice })),
      this.select("size", String(state.size), [["96", "small"], ["160", "middle"], ["240", "large"], ["320", "largest"]], (size) => this.update({ size: Number(size) })),
      search,
    ] : [
      this.select("pass", state.pass, told.passes.map((pass) => pass.name), (pass) => this.update({ pass })),
      this.select("display", String(state.display), [["-1", "as in the plan"], ...told.displays.map((name, k) => /** @type {[string, string]} */ ([String(k), name.split(" / ").pop() ?? name]))], (display) => this.update({ display: Number(display) })),
      this.select("mode", state.mode, [["side", "side by side"], ["wipe", "wipe"], ["flip", "flip"], ["apart", "difference"]], (mode) => this.update({ mode: /** @type {State["mode"]} */ (mode) })),
      h("button", { "aria-pressed": String(state.locked), title: "all panes show the same part", onclick: () => this.update({ locked: !state.locked, views: [] }) }, "together"),
      h("span.stops", { title: "beside the exposure of the plan" }, h("button", { "aria-label": "half a stop darker", onclick: () => this.update({ stops: state.stops - 0.5 }) }, "−"),
        h("output", {}, `${state.stops >= 0 ? "+" : ""}${state.stops.toFixed(1)} stops`), h("button", { "aria-label": "half a stop brighter", onclick: () => this.update({ stops: state.stops + 0.5 }) }, "+")),
    ];
    this.bar.replaceChildren(h("h1", {}, told.title), views, ...tools, h("span.gap"),
      this.select("around", state.around, ["grey", "dark", "light"], (around) => this.update({ around: /** @type {State["around"]} */ (around) })),
      h("button", { onclick: () => this.help(), "aria-label": "keys", title: "keys" }, "?"));
  }

  drawStrip() {
    const { state, told } = this;
    this.strip.hidden = state.view !== "panes";
    if (this.strip.hidden || (this.strip.contains(document.activeElement) && document.activeElement?.getAttribute("type") === "range")) return;
    const axis = told.axes.find((each) => each.name === state.sweep), k = axis ? told.axes.indexOf(axis) : -1;
    const frames = Math.max(1, ...state.panes.map((index) => told.cells[index].f.length)), here = told.cells[state.panes[state.active] ?? state.panes[0]];
    const sweep = axis && axis.entries.length > 1 && here?.at[k] >= 0 && h("label.sweep", {}, this.select("along", state.sweep, told.axes.filter((each) => each.entries.length > 1).map((each) => each.name), (name) => this.update({ sweep: name })),
      h("input", { type: "range", min: 0, max: axis.entries.length - 1, step: 1, value: here.at[k], "aria-label": `along ${axis.name}`,
        oninput: (/** @type {Event} */ event) => this.sweep(Number(/** @type {HTMLInputElement} */ (event.target).value)) }), h("output", {}, axis.entries[here.at[k]]),
      axis.sweeps && here.at[k] + 1 < axis.entries.length && h("button", { title: "cells between this one and the next", onclick: () => this.finer(axis.name, axis.entries[here.at[k]], axis.entries[here.at[k] + 1]) }, "Finer …"));
    const lacking = here?.lacks?.length ? `${here.lacks.length} of ${here.of} frames are missing` : "";
    const play = frames > 1 && h("label.frames", {}, h("button", { onclick: () => this.play(), "aria-pressed": String(Boolean(this.playing)) }, this.playing ? "Stop" : "Play"),
      h("input", { type: "range", min: 0, max: frames - 1, step: 1, value: Math.min(state.frame, frames - 1), "aria-label": "frame", oninput: (/** @type {Event} */ event) => this.update({ frame: Number(/** @type {HTMLInputElement} */ (event.target).value) }, true) }),
      h("output", {}, `frame ${here?.f[Math.min(state.frame, here.f.length - 1)] ?? "–"}`), lacking && h("span.wrong", {}, lacking), lacking && ticks(here));
    this.strip.replaceChildren(...[sweep, play].filter((each) => each instanceof Node));
    this.strip.hidden = !this.strip.children.length;
  }

  /** Ask for what is between two entries of a sweep. @param {string} axis @param {string} from @param {string} to */
  finer(axis, from, to) {
    const here = this.told.cells[this.state.panes[this.state.active] ?? this.state.at];
    const command = `glat finer ${inPlan(this.told, here)[0]} ${quoted(`${axis}=${from},${to}`)}`;
    this.handOn(`Cells between ${axis} ${from} and ${to}`, command, { order: "finer", axis, between: [from, to] });
  }

  drawSide() {
    const { state } = this;
    const typing = this.side.contains(document.activeElement) && ["TEXTAREA", "INPUT"].includes(document.activeElement?.tagName ?? "");
    if (typing && this.beside === state.panel) return;
    this.beside = state.panel;
    this.readInto = null;
    const tabs = h("div.tabs", { role: "group", "aria-label": "what is shown here" }, ...PANELS.map((name) => h("button", { "aria-pressed": String(name === state.panel), onclick: () => this.update({ panel: name }) }, name)));
    this.side.replaceChildren(tabs, panel(this));
  }

  /** The run stands otherwise. */
  heard() {
    if (this.state.panel === "run" && !this.side.querySelector("details[open]")) this.drawSide();
    const live = this.served?.live, last = live?.tries.at(-1);
    if (live?.problem) this.say(`The last save cannot be proofed: ${live.problem}`);
    else if (last) this.say(`try ${last.number}: ${last.cells.length} of ${this.told.count} cells proofed, the first after ${last.seconds[0].toFixed(1)} s, all after ${last.seconds[1].toFixed(1)} s`);
    const run = this.served?.run;
    if (run?.under_way) this.say(`${Math.round(100 * run.share)} % done, ${run.counts.done ?? 0} frames${run.counts.failed ? `, ${run.counts.failed} failed` : ""}`);
  }

  /** Frames have arrived: what is looked at stays. */
  renewed() {
    const cells = (/** @type {number[]} */ indices) => indices.map((index) => this.told.cells[index].k);
    const [at] = cells([this.state.at]), panes = cells(this.state.panes);
    this.told = this.store.told;
    const place = (/** @type {string} */ key) => this.told.cells.findIndex((cell) => cell.k === key);
    this.state = { ...this.state, at: Math.max(0, place(at)), panes: panes.map(place).filter((index) => index >= 0) };
    this.choices = merged(this.choices, this.told.choices ?? {});
    this.matrix.drawn = "";
    this.draw();
  }

  /** @param {number} index of a cell, or -1 */
  hovered(index) {
    if (index < 0 || this.state.view !== "matrix") return;
    const cell = this.told.cells[index], facts = [cell.a, cell.s || "done", `${cell.w}×${cell.h}`, cell.spp !== null && `${cell.spp} samples`, cell.n !== null && `noise ${(100 * cell.n).toFixed(1)} %`, cell.sec !== null && `${cell.sec.toFixed(1)} s`, cell.word];
    this.say(facts.filter(Boolean).join("   "));
  }

  /** @param {{x: number, y: number, pane: number} | null} place */
  pointed(place) {
    this.readInto?.(place);
  }

  /** @param {string} text */
  say(text) {
    this.message.textContent = text;
  }

  /** @param {number[]} indices */
  lookAt(indices) {
    this.update({ view: "panes", panes: indices.slice(0, 4), active: 0, at: indices[0], flip: 0 });
    this.panes.element.focus();
  }

  /** Have what is so far away in focus. @param {number | null} metres */
  focusAt(metres) {
    if (metres === null) return this.say("Nothing is known of how far away that is.");
    const index = this.state.panes[this.state.active] ?? this.state.at, frame = this.panes.frameOf(index);
    const own = frame === undefined ? null : this.store.now(this.told.cells[index], frame, "beauty")?.lens;
    this.update({ lens: [+metres.toPrecision(4), this.state.lens[1] ?? (own?.[1] || 2.8)] });
  }

  /** @param {number} index */
  toggle(index) {
    const { panes } = this.state, there = panes.includes(index);
    if (!there && panes.length === 4) return this.say("Four pictures stand beside each other at most.");
    this.update({ panes: there ? panes.filter((each) => each !== index) : [...panes, index], at: index });
  }

  /** All panes to an entry of the axis that is dragged. @param {number} entry */
  sweep(entry) {
    const { state, told } = this, axis = told.axes.find((each) => each.name === state.sweep);
    if (!axis || entry < 0 || entry >= axis.entries.length) return;
    const panes = state.panes.map((index) => along(told, index, axis.name, entry));
    this.panes.value.textContent = axis.entries[entry];
    clearTimeout(this.telling);
    this.telling = setTimeout(() => { this.panes.value.textContent = ""; }, 900);
    this.update({ panes, at: panes[state.active] ?? panes[0] });
    for (const next of [entry - 1, entry + 1, entry + 2]) if (next >= 0 && next < axis.entries.length) for (const index of panes) {
      const to = along(told, index, axis.name, next), frame = this.panes.frameOf(to);
      if (frame !== undefined) this.store.load(told.cells[to], frame, state.pass);
    }
  }

  play() {
    if (this.playing) {
      clearInterval(this.playing);
      this.playing = undefined;
    } else {
      const frames = Math.max(1, ...this.state.panes.map((index) => this.told.cells[index].f.length));
      this.playing = setInterval(() => this.update({ frame: (this.state.frame + 1) % frames }), 1000 / (this.told.rate || 24));
    }
    this.drawStrip();
  }

  /** @param {string} cell address @param {Partial<Choice>} change */
  choose(cell, change) {
    const before = this.choices[cell] ?? { by: "", note: "" };
    this.setChoices({ ...this.choices, [cell]: /** @type {Choice} */ ({ ...before, ...change, at: Date.now() / 1000 }) });
  }

  /** @param {Record<string, Choice>} choices @param {boolean} [keep] */
  setChoices(choices, keep = true) {
    this.choices = choices;
    if (keep) {
      this.kept.write(choices);
      this.served?.choose(choices).then((made) => { if (made) this.choices = merged(this.choices, made); });
    }
    this.matrix.drawn = this.state.choice ? "" : this.matrix.drawn;
    this.draw();
  }

  /** What a rule says to mean the cells that are lit like one. @param {import("./store.js").Cell} cell */
  matchOf(cell) {
    const like = likeOf(this.told, cell);
    return like ? `{${JSON.stringify(like[0])}: ${JSON.stringify(like[1])}}` : "{}";
  }

  /** The same for orders. @param {import("./store.js").Cell} cell @returns {string[]} */
  likes(cell) {
    const like = likeOf(this.told, cell);
    return like ? [like.join("=")] : [];
  }

  /** Text for the plan or the terminal. @param {string} title @param {string} text
   * @param {{order: string} & Record<string, unknown>} [order] that does the same where the page is served */
  handOn(title, text, order) {
    const { served } = this, keep = served && order && h("button", { onclick: () => { const { order: verb, ...details } = order; served.order(verb, details); } }, "Write it into the plan");
    const area = h("textarea", { rows: Math.min(16, text.split("\n").length + 1), value: text, readOnly: true, "aria-label": title });
    const dialog = /** @type {HTMLDialogElement} */ (h("dialog", { onclose: () => dialog.remove() }, h("h2", {}, title), area,
      h("form", { method: "dialog" }, h("button", { type: "button", onclick: () => { /** @type {HTMLTextAreaElement} */ (area).select(); document.execCommand("copy"); } }, "Copy"), keep, h("button", {}, "Close"))));
    document.body.append(dialog);
    dialog.showModal();
  }

  help() {
    const dialog = /** @type {HTMLDialogElement} */ (h("dialog", { onclose: () => dialog.remove() }, h("h2", {}, "Keys"),
      h("dl.keys", {}, ...KEYS.flatMap(([key, what]) => [h("dt", {}, key), h("dd", {}, what)])), h("form", { method: "dialog" }, h("button", {}, "Close"))));
    document.body.append(dialog);
    dialog.showModal();
  }

  /** @param {KeyboardEvent} event */
  key(event) {
    const target = /** @type {HTMLElement} */ (event.target);
    if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return;
    const typing = target.matches("input:not([type=range]), textarea, select");
    if (typing) {
      if (event.key === "Escape" || (event.key === "Enter" && target.matches("input"))) target.blur();
      return;
    }
    if (this.act(event.key, event.shiftKey, target)) event.preventDefault();
  }

  /** What a key does; whether it did anything. @param {string} key @param {boolean} shift @param {HTMLElement} target */
  act(key, shift, target) {
    const { state, told } = this, inPanes = state.view === "panes", arrows = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
    const panels = { y: "why", v: "pixel", l: "light", g: "grade", a: "lens", j: "figures", c: "cell" }, choices = { k: "keep", m: "maybe", o: "out" };
    if (key in arrows) {
      if (target.matches("input[type=range]")) return false;
      const [right, down] = arrows[/** @type {keyof typeof arrows} */ (key)];
      if (!inPanes) this.matrix.move(right, down);
      else {
        const axis = told.axes.findIndex((each) => each.name === state.sweep);
        this.sweep(told.cells[state.panes[state.active] ?? state.panes[0]].at[axis] + (right || down));
      }
      return true;
    }
    if (key === "Enter") {
      if (inPanes || (target.matches("button:not(.cell), a, summary"))) return false;
      this.lookAt(state.panes.length ? state.panes : [state.at]);
    } else if (key === " ") {
      if (inPanes || target.matches("button:not(.cell), summary")) return false;
      this.toggle(state.at);
    } else if (key === "Escape") {
      this.update({ view: "matrix", panes: inPanes ? state.panes : [] });
      if (inPanes) requestAnimationFrame(() => this.matrix.focus(this.state.at));
    } else if (key in choices) {
      const by = choices[/** @type {keyof typeof choices} */ (key)], cell = told.cells[told.cells[state.at].past ?? state.at].a;
      this.choose(cell, { by: /** @type {Choice["by"]} */ (this.choices[cell]?.by === by ? "" : by) });
    } else if (key in panels) this.update({ panel: panels[/** @type {keyof typeof panels} */ (key)] });
    else if (key === "n") {
      this.update({ panel: "cell" });
      this.side.querySelector("textarea")?.focus();
    } else if (key === "/") {
      this.update({ view: "matrix" });
      /** @type {HTMLElement | null} */ (this.bar.querySelector("input[type=search]"))?.focus();
    } else if (key === "b") this.update({ around: /** @type {const} */ ({ grey: "dark", dark: "light", light: "grey" })[state.around] });
    else if (key === "?") this.help();
    else if (!inPanes) return false;
    else return this.actInPanes(key, shift);
    return true;
  }

  /** @param {string} key @param {boolean} shift */
  actInPanes(key, shift) {
    const { state, told } = this, passes = told.passes.map((pass) => pass.name), here = passes.indexOf(state.pass);
    const frames = Math.max(1, ...state.panes.map((index) => told.cells[index].f.length)), modes = { w: "wipe", f: "flip", x: "apart", s: "side" };
    if (key in modes) this.update({ mode: /** @type {State["mode"]} */ (modes[/** @type {keyof typeof modes} */ (key)]) });
    else if (/^[1-9]$/.test(key)) { if (passes[Number(key) - 1]) this.update({ pass: passes[Number(key) - 1] }); }
    else if (key === "[" || key === "]") this.update({ pass: passes[(here + (key === "]" ? 1 : passes.length - 1)) % passes.length] });
    else if (key === "-" || key === "−") this.update({ stops: state.stops - 0.5 });
    else if (key === "+" || key === "=") this.update({ stops: state.stops + 0.5 });
    else if (key === "0") this.update({ stops: 0 });
    else if (key === "d") this.update({ display: state.display + 1 >= told.displays.length ? -1 : state.display + 1 });
    else if (key === "r") this.update({ flip: (state.flip + 1) % Math.max(1, state.panes.length) });
    else if (key === "u") this.update({ locked: !state.locked, views: [] });
    else if (key === "e") this.update({ eye: (state.eye + 1) % 3 });
    else if (key === "z") this.update(state.zoom === 1 && !state.views.length ? { zoom: 1 / this.panes.scaleOf(this.panes.boxes()[0], told.cells[state.panes[0]]) } : { zoom: 1, x: 0.5, y: 0.5, views: [] });
    else if (key === "," || key === ".") this.update({ frame: (state.frame + (key === "." ? 1 : frames - 1)) % frames });
    else if (key === "p") this.play();
    else if (key === "Tab" && state.panes.length > 1) {
      const active = (state.active + (shift ? state.panes.length - 1 : 1)) % state.panes.length;
      this.update({ active, at: state.panes[active] });
    } else return false;
    return true;
  }
}

/** Which frames of a cell are there, in order, by signs. @param {import("./store.js").Cell} cell */
function ticks(cell) {
  const lacks = new Map((cell.lacks ?? []).map(([frame, failed]) => [frame, failed])), every = [...cell.f, ...lacks.keys()].sort((a, b) => a - b);
  const told = (/** @type {number} */ frame) => (lacks.has(frame) ? (lacks.get(frame) ? ["✗", "failed"] : ["□", "is missing"]) : ["▪", "is there"]);
  return h("span.ticks", { role: "img", "aria-label": every.filter((frame) => lacks.has(frame)).map((frame) => `frame ${frame} ${told(frame)[1]}`).join(", ") },
    ...every.map((frame) => h(`span${lacks.has(frame) ? ".wrong" : ""}`, { title: `frame ${frame} ${told(frame)[1]}` }, told(frame)[0])));
}

const store = new Store();
/** @type {any} */ (window).PAGE = store.calls;
document.addEventListener("DOMContentLoaded", () => {
  const root = /** @type {HTMLElement} */ (document.getElementById("page"));
  if (!store.told) {
    root.textContent = "Files of this page are missing. glat review writes it again.";
    return;
  }
  /** @type {any} */ (window).page = new Page(store, root);
});
