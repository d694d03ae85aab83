// One to four pictures side by side, over each other, or their difference.

import { floatsOf, namesAt, valuesAt } from "./decode.js";
import { h, soon } from "./dom.js";
import { isNeutral } from "./grade.js";
import { defocused } from "./lens.js";
import { isAsLit, mixed } from "./light.js";
import { figure, rampAt, rangesOf } from "./looks.js";
import { Painter } from "./painter.js";
import { PlainPainter } from "./plain_painter.js";
import { MARKS } from "./choices.js";
import { viewOf, viewed } from "./state.js";

/** @typedef {import("./main.js").Page} Page */
/** @typedef {import("./painter.js").Layer} Layer */
/** @typedef {import("./painter.js").Box} Box */
/** @typedef {import("./decode.js").Picture} Picture */

const GREYS = { grey: 0.42, dark: 0.08, light: 0.82 };

export class Panes {
  /** @param {Page} page */
  constructor(page) {
    this.page = page;
    this.canvas = /** @type {HTMLCanvasElement} */ (h("canvas", { "aria-label": "pictures side by side", role: "img" }));
    this.labels = h("div.labels");
    this.value = h("output.value", { "aria-live": "polite" });
    this.legend = h("div.legend");
    this.element = h("div.panes", { tabIndex: 0, "aria-label": "pictures" }, this.canvas, this.labels, this.value, this.legend);
    this.painter = this.another();
    this.canvas.replaceWith(this.painter.canvas);
    this.canvas = this.painter.canvas;
    /** @type {Map<string, Picture>} */
    this.mixes = new Map();
    /** @type {{key: string, look: string, ranges: [number, number][]} | undefined} */
    this.ranged = undefined;
    /** @type {{key: string, high: number} | undefined} */
    this.apart = undefined;
    /** @type {WeakMap<Picture, number>} */
    this.numbers = new WeakMap();
    this.counted = 0;
    this.soon = soon(() => this.paint());
    new ResizeObserver(() => this.soon()).observe(this.element);
    this.listen();
  }

  /** A canvas with something to paint on it. @returns {Painter | PlainPainter} */
  another() {
    const canvas = () => /** @type {HTMLCanvasElement} */ (h("canvas", { "aria-label": "pictures side by side", role: "img" }));
    const { shaders } = this.page.store;
    try {
      if (new URLSearchParams(location.search).has("plain")) throw new Error("asked for");
      return new Painter(canvas(), shaders);
    } catch {
      return new PlainPainter(canvas(), shaders);
    }
  }

  /** The parts of the canvas that panes have. @returns {Box[]} */
  boxes() {
    const { state } = this.page, { width, height } = this.canvas;
    const count = state.mode === "side" ? Math.max(1, state.panes.length) : 1;
    const gap = count > 1 ? 4 : 0, first = this.page.told.cells[state.panes[0]] ?? { w: 16, h: 9 };
    // As many side by side as show the pictures largest.
    const large = (/** @type {number} */ n) => Math.min(width / n / first.w, height / Math.ceil(count / n) / first.h);
    const across = Array.from({ length: count }, (_, k) => k + 1).reduce((best, n) => (large(n) >= large(best) ? n : best), 1), down = Math.ceil(count / across);
    const w = Math.floor((width - gap * (across - 1)) / across), tall = Math.floor((height - gap * (down - 1)) / down);
    return Array.from({ length: count }, (_, k) => ({
      x: (k % across) * (w + gap), y: Math.floor(k / across) * (tall + gap), w, h: tall,
    }));
  }

  /** Where all of a picture would stand. @param {Box} pane @param {{w: number, h: number}} picture @param {number} [k] which pane
   * @returns {Box} */
  boxOf(pane, picture, k = 0) {
    const [zoom, x, y] = viewOf(this.page.state, k), by = this.scaleOf(pane, picture) * zoom;
    const w = picture.w * by, tall = picture.h * by;
    return { x: Math.round(pane.x + pane.w / 2 - x * w), y: Math.round(pane.y + pane.h / 2 - y * tall), w: Math.round(w), h: Math.round(tall) };
  }

  /** @param {Box} pane @param {{w: number, h: number}} picture */
  scaleOf(pane, picture) {
    return Math.min(pane.w / picture.w, pane.h / picture.h);
  }

  /** @param {number} index of a cell */
  frameOf(index) {
    const { f } = this.page.told.cells[index];
    return f[Math.min(this.page.state.frame, f.length - 1)];
  }

  /** The picture of a pass of a cell, when it is here. @param {number} index @param {string} pass @returns {Picture | null} */
  picture(index, pass) {
    const { store, told, state } = this.page, cell = told.cells[index], frame = this.frameOf(index);
    if (frame === undefined) return null;
    const get = (/** @type {string} */ name) => {
      const here = store.now(cell, frame, name);
      if (!here && store.has(cell, frame, name)) store.load(cell, frame, name).then(() => this.soon());
      return here;
    };
    const lit = this.lit(cell, frame, pass, get);
    if (pass !== "beauty" || !lit?.lens || state.lens.length !== 2) return lit;
    const depth = get("depth"), [focus, fstop] = state.lens, lens = lit.lens;
    return depth ? this.kept(`${this.number(lit)} ${state.lens}`, () => defocused(lit, depth, lens, { focus, fstop })) : lit;
  }

  /** A picture that takes its time to be made. @param {string} key @param {() => Picture} make */
  kept(key, make) {
    const known = this.mixes.get(key);
    if (known) return known;
    const made = make();
    this.mixes.set(key, made);
    for (const old of this.mixes.keys()) if (this.mixes.size > 8) this.mixes.delete(old);
    return made;
  }

  /** The picture of a pass in the light that was mixed. @param {import("./store.js").Cell} cell @param {number} frame @param {string} pass
   * @param {(name: string) => Picture | null} get @returns {Picture | null} */
  lit(cell, frame, pass, get) {
    const { store, state } = this.page, beauty = get(pass);
    const lamps = Object.entries(state.mix).filter(([lamp, each]) => !isAsLit(each) && store.has(cell, frame, `light.${lamp}`));
    // Noise that is left is that of the light as it was traced: not of other strengths of it.
    const noisy = !lamps.length && state.noisy && store.has(cell, frame, "noisy");
    if (pass !== "beauty" || !beauty || (!lamps.length && !noisy)) return beauty;
    const parts = lamps.map(([lamp, each]) => [get(`light.${lamp}`), each]);
    const traced = noisy ? get("noisy") : null;
    if (parts.some(([light]) => !light) || (noisy && !traced)) return beauty;
    return this.kept(JSON.stringify([cell.k, cell.v, frame, lamps, noisy && state.noisy]), () => mixed(beauty, /** @type {any} */ (parts), traced, state.noisy));
  }

  /** @param {number} index @param {string} [pass] @returns {Layer | null} */
  layer(index, pass = this.page.state.pass) {
    const { told, state, store } = this.page, cell = told.cells[index], picture = this.picture(index, pass);
    if (!picture) return null;
    const told_of = told.passes[store.passIndex?.get(pass) ?? 0], grade = { ...cell.g, ...state.grade };
    const isBeauty = pass === "beauty" || pass === "noisy";
    return {
      picture, look: told_of.look, stops: cell.x + state.stops + (cell.stops ? picture.stops : 0),
      display: state.display < 0 ? cell.d : state.display, grade: isBeauty && !isNeutral(grade) ? grade : null, ranges: [[0, 1]],
    };
  }

  paint() {
    if (this.page.state.view !== "panes") return;
    const { state } = this.page, { clientWidth, clientHeight } = this.element, dots = window.devicePixelRatio || 1;
    const [width, height] = [Math.max(1, Math.round(clientWidth * dots)), Math.max(1, Math.round(clientHeight * dots))];
    if (this.canvas.width !== width || this.canvas.height !== height) Object.assign(this.canvas, { width, height });
    const grey = GREYS[state.around], clear = /** @type {[number, number, number]} */ ([grey, grey, grey]);
    this.painter.wipe(clear);
    const boxes = this.boxes(), layers = state.panes.map((index) => this.layer(index));
    const here = /** @type {Layer[]} */ (layers.filter(Boolean));
    if (here.length) {
      const ranges = this.ranges(here[0].look, here.map((layer) => layer.picture));
      for (const layer of here) layer.ranges = ranges;
    }
    const [one, other] = [layers[0], layers[1] ?? layers[0]];
    if (state.mode === "side") boxes.forEach((box, k) => this.put(layers[k], box, box, clear, k));
    else if (state.mode === "flip") this.put(layers[state.flip % layers.length], boxes[0], boxes[0], clear);
    else if (state.mode === "wipe") {
      const [box] = boxes, at = Math.round(box.w * state.wipe);
      this.put(one, box, { ...box, w: at }, clear);
      this.put(other, box, { ...box, x: box.x + at, w: box.w - at }, clear);
    } else if (one && other) {
      const high = this.apartBy(one.picture, other.picture);
      this.put({ ...one, apart: other, ranges: [[0, high]] }, boxes[0], boxes[0], clear);
    }
    this.tell(boxes, layers);
    this.page.painted?.(layers);
  }

  /** @param {string} look @param {Picture[]} pictures @returns {[number, number][]} */
  ranges(look, pictures) {
    const key = pictures.map((picture) => this.number(picture)).join();
    if (this.ranged?.key !== key || this.ranged.look !== look) this.ranged = { key, look, ranges: rangesOf(look, pictures) };
    return this.ranged.ranges;
  }

  /** @param {Picture} picture */
  number(picture) {
    if (!this.numbers.has(picture)) this.numbers.set(picture, ++this.counted);
    return /** @type {number} */ (this.numbers.get(picture));
  }

  /** The difference that the last colour stands for: all but a thousandth of the pixels differ by less.
   * @param {Picture} one @param {Picture} other */
  apartBy(one, other) {
    const key = `${this.number(one)} ${this.number(other)}`;
    if (this.apart?.key === key) return this.apart.high;
    const a = floatsOf(one), b = floatsOf(other), found = [];
    const step = Math.max(1, Math.floor((one.w * one.h) / 40000));
    for (let k = 0; k < one.w * one.h && (k + 1) * other.c <= b.length; k += step) {
      let most = 0;
      for (let n = 0; n < Math.min(3, one.c, other.c); n++) most = Math.max(most, Math.abs(a[k * one.c + n] - b[k * other.c + n]) || 0);
      found.push(Number.isFinite(most) ? most : 0);
    }
    found.sort((p, q) => p - q);
    const high = found[Math.floor(0.999 * (found.length - 1))] || 1e-3;
    this.apart = { key, high };
    return high;
  }

  /** @param {Layer | null | undefined} layer @param {Box} pane @param {Box} seen @param {[number, number, number]} clear
   * @param {number} [k] which pane */
  put(layer, pane, seen, clear, k = 0) {
    if (!layer || seen.w <= 0 || seen.h <= 0) return;
    const { state, told } = this.page, cell = told.cells[state.panes[k] ?? state.panes[0]], eye = cell?.stereo ? state.eye : 0;
    const box = this.boxOf(pane, eye ? { w: layer.picture.w, h: layer.picture.h / 2 } : layer.picture, k);
    if (eye) {
      // The other eye's half stands outside of what is seen.
      const top = Math.max(seen.y, box.y), end = Math.min(seen.y + seen.h, box.y + box.h);
      seen = { ...seen, y: top, h: end - top };
      Object.assign(box, { y: box.y - (eye - 1) * box.h, h: 2 * box.h });
      if (seen.h <= 0) return;
    }
    if (!cell?.panorama || !this.page.state.turn) return this.painter.paint(layer, box, seen, clear);
    const shift = Math.round((box.w * (((this.page.state.turn % 360) + 360) % 360)) / 360);
    const left = Math.max(seen.x, box.x), right = Math.min(seen.x + seen.w, box.x + box.w), part = { ...seen, x: left, w: right - left };
    for (const by of [-shift, box.w - shift]) if (part.w > 0) this.painter.paint(layer, { ...box, x: box.x + by }, part, clear);
  }

  /** Labels over panes. @param {Box[]} boxes @param {(Layer | null)[]} layers */
  tell(boxes, layers) {
    const { state, told, choices } = this.page, dots = window.devicePixelRatio || 1;
    const shown = state.mode === "side" ? state.panes : state.mode === "flip" ? [state.panes[state.flip % state.panes.length]] : state.panes.slice(0, 2);
    this.labels.replaceChildren(...shown.map((index, k) => {
      const box = boxes[Math.min(k, boxes.length - 1)], cell = told.cells[index], by = choices[cell.a]?.by ?? "";
      const right = (state.mode === "wipe" || state.mode === "apart") && k === 1, active = state.mode === "side" && k === state.active && shown.length > 1;
      const lacking = layers[state.panes.indexOf(index)] ? "" : this.lacking(index);
      return h(`div.label${active ? ".active" : ""}${right ? ".right" : ""}`, {
        style: `left:${box.x / dots}px;top:${box.y / dots}px;width:${box.w / dots}px`,
      },
      h("span.address", {}, cell.a), by && h("span", {}, `${MARKS[by]} ${by}`), cell.s && h("span.wrong", {}, cell.s),
      lacking && h("span.wrong", {}, lacking));
    }));
    const pass = told.passes.find((each) => each.name === state.pass), look = state.mode === "apart" ? "apart" : pass?.look ?? "light";
    const range = state.mode === "apart" ? [[0, this.apart?.high ?? 1]] : this.ranged?.ranges ?? [[0, 1]];
    this.legend.replaceChildren(...legend(look, /** @type {[number, number][]} */ (range), pass?.says ?? ""));
  }

  /** Why there is nothing to see. @param {number} index */
  lacking(index) {
    const { told, store, state } = this.page, cell = told.cells[index], frame = this.frameOf(index);
    if (frame === undefined) return "no picture yet";
    if (store.has(cell, frame, state.pass)) return "loading …";
    return state.pass === "beauty" ? "no OpenEXR file to look into" : `has no ${state.pass}`;
  }

  /** Which pixel of each pane's picture is at a place. @param {number} clientX @param {number} clientY
   * @returns {{x: number, y: number, pane: number} | null} x and y are shares of the picture */
  placeAt(clientX, clientY) {
    const around = this.canvas.getBoundingClientRect(), dots = this.canvas.width / Math.max(1, around.width);
    const x = (clientX - around.left) * dots, y = (clientY - around.top) * dots, boxes = this.boxes();
    const pane = boxes.findIndex((box) => x >= box.x && x < box.x + box.w && y >= box.y && y < box.y + box.h);
    const { state } = this.page, index = state.panes[pane];
    const cell = index === undefined ? null : this.page.told.cells[index];
    if (!cell) return null;
    const layer = this.picture(index, state.pass) ?? { w: cell.w, h: cell.h }, eye = cell.stereo ? state.eye : 0;
    const box = this.boxOf(boxes[pane], eye ? { w: layer.w, h: layer.h / 2 } : layer, pane), shift = cell.panorama ? state.turn / 360 : 0;
    const share = (x - box.x) / box.w, down = (y - box.y) / box.h;
    return { x: shift ? (((share + shift) % 1) + 1) % 1 : share, y: eye ? (down + eye - 1) / 2 : down, pane };
  }

  /** How far away what is seen at a place is; null where that is not known. @param {{x: number, y: number, pane: number}} place */
  metresAt({ x, y, pane }) {
    const index = this.page.state.panes[pane], cell = this.page.told.cells[index], frame = this.frameOf(index);
    const depth = frame === undefined ? null : this.page.store.now(cell, frame, "depth");
    if (!depth?.lens || x < 0 || y < 0 || x >= 1 || y >= 1) return null;
    const [z] = valuesAt(depth, Math.floor(x * depth.w), Math.floor(y * depth.h));
    return Number.isFinite(z) && z > 0 ? z * depth.lens[4] : null;
  }

  /** What every pass says of a pixel of a pane. @param {number} pane @param {number} x share @param {number} y share */
  reading(pane, x, y) {
    const { told, state, store } = this.page, index = state.panes[pane], cell = told.cells[index], frame = this.frameOf(index);
    /** @type {{pass: string, text: string, values: number[]}[]} */
    const rows = [];
    let px = 0, py = 0;
    for (const pass of told.passes) {
      const picture = pass.name === "beauty" ? this.picture(index, "beauty") : store.now(cell, frame, pass.name);
      if (!picture) {
        if (store.has(cell, frame, pass.name)) store.load(cell, frame, pass.name);
        continue;
      }
      px = Math.min(Math.max(Math.floor(x * picture.w), 0), picture.w - 1);
      py = Math.min(Math.max(Math.floor(y * picture.h), 0), picture.h - 1);
      const values = valuesAt(picture, px, py);
      const text = pass.look === "ids" ? namesAt(picture, px, py).map(([name, covers]) => `${name.split("/").slice(-2).join("/")} ${Math.round(100 * covers)} %`).join("  ")
        : values.map((value, k) => `${values.length > 1 ? `${pass.letters[k] ?? ""} ` : ""}${figure(value)}`).join("  ");
      rows.push({ pass: pass.name, text, values });
    }
    return { px, py, rows };
  }

  listen() {
    const { page } = this;
    /** @type {{x: number, y: number, at: {x: number, y: number, zoom: number}, kind: string, pane: number} | null} */
    let held = null;
    this.element.addEventListener("pointerdown", (event) => {
      if (event.button !== 0) return;
      this.element.setPointerCapture(event.pointerId);
      const around = this.canvas.getBoundingClientRect(), near = Math.abs((event.clientX - around.left) / around.width - page.state.wipe) < 0.03;
      const cell = page.told.cells[page.state.panes[0]];
      const kind = page.state.mode === "wipe" && near ? "wipe" : cell?.panorama && page.state.zoom === 1 ? "turn" : "pan";
      const place = this.placeAt(event.clientX, event.clientY), pane = place?.pane ?? 0, [zoom, x, y] = viewOf(page.state, pane);
      held = { x: event.clientX, y: event.clientY, at: { x: kind === "turn" ? page.state.turn : x, y, zoom }, kind, pane };
      if (place && page.state.mode === "side" && place.pane !== page.state.active) page.update({ active: place.pane, at: page.state.panes[place.pane] });
    });
    this.element.addEventListener("pointermove", (event) => {
      const around = this.canvas.getBoundingClientRect();
      if (!held) {
        const place = this.placeAt(event.clientX, event.clientY);
        page.pointed(place);
        return;
      }
      const dots = this.canvas.width / around.width, [pane] = this.boxes(), cell = page.told.cells[page.state.panes[0]];
      const by = this.scaleOf(pane, cell) * held.at.zoom;
      if (held.kind === "wipe") page.update({ wipe: Math.min(Math.max((event.clientX - around.left) / around.width, 0), 1) });
      else if (held.kind === "turn") page.update({ turn: held.at.x - ((event.clientX - held.x) * dots * 360) / (cell.w * by) });
      else {
        const to = [held.at.x - ((event.clientX - held.x) * dots) / (cell.w * by), held.at.y - ((event.clientY - held.y) * dots) / (cell.h * by)];
        page.update(viewed(page.state, held.pane, [held.at.zoom, to[0], to[1]]));
      }
    });
    const end = () => { held = null; };
    this.element.addEventListener("pointerup", (event) => {
      const place = held && Math.hypot(event.clientX - held.x, event.clientY - held.y) < 4 ? this.placeAt(event.clientX, event.clientY) : null;
      end();
      if (place && page.state.panel === "lens") page.focusAt(this.metresAt(place));
    });
    this.element.addEventListener("pointercancel", end);
    this.element.addEventListener("pointerleave", () => page.pointed(null));
    this.element.addEventListener("wheel", (event) => {
      event.preventDefault();
      const place = this.placeAt(event.clientX, event.clientY), pane = place?.pane ?? 0, [zoom, x, y] = viewOf(page.state, pane);
      const next = Math.min(Math.max(zoom * 2 ** (-event.deltaY / 300), 0.25), 64);
      const stay = place ?? { x, y };
      page.update(viewed(page.state, pane, [next, stay.x + ((x - stay.x) * zoom) / next, stay.y + ((y - stay.y) * zoom) / next]));
    }, { passive: false });
    this.element.addEventListener("dblclick", () => page.update({ zoom: 1, x: 0.5, y: 0.5, views: [] }));
  }
}

/** What values are shown as. @param {string} look @param {[number, number][]} ranges @param {string} says @returns {Node[]} */
function legend(look, ranges, says) {
  const bar = (/** @type {string[]} */ colours) => h("span.bar", { style: `background:linear-gradient(90deg,${colours.join()})` });
  const ramp = Array.from({ length: 9 }, (_, k) => `rgb(${rampAt(k / 8).map((part) => Math.round(255 * part)).join(" ")})`);
  const [[low, high]] = ranges, name = h("span.says", {}, look === "apart" ? "largest difference of the channels, scene-linear" : says);
  if (look === "light") return [];
  if (look === "apart" || look === "lux") return [h("span", {}, figure(low)), bar(ramp), h("span", {}, `${figure(high)}${look === "lux" ? " lx" : ""}`), name];
  if (look === "distance") return [h("span", {}, figure(low)), bar(["#fff", "#000"]), h("span", {}, figure(high)), name];
  if (look === "amount" || look === "share") return [h("span", {}, figure(low)), bar(["#000", "#fff"]), h("span", {}, figure(high)), name];
  return [name];
}
