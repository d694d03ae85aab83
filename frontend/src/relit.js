// Small pictures in the light that was mixed: of cells in sight, one after the other.

import { h } from "./dom.js";
import { isAsLit } from "./light.js";
import { Painter } from "./painter.js";
import { PlainPainter } from "./plain_painter.js";

/** @typedef {import("./main.js").Page} Page */

const BEHIND = /** @type {[number, number, number]} */ ([0.25, 0.25, 0.25]);

export class Relit {
  /** @param {Page} page */
  constructor(page) {
    this.page = page;
    /** @type {Set<HTMLElement>} */
    this.waiting = new Set();
    /** @type {Painter | PlainPainter | undefined} */
    this.painter = undefined;
    this.busy = false;
  }

  /** What the small pictures of cells are to be shown in; nothing where they are as they were rendered. */
  key() {
    const { mix, grade, stops } = this.page.state;
    return Object.values(mix).every(isAsLit) ? "" : JSON.stringify([mix, grade, stops, this.page.told.made]);
  }

  /** @param {HTMLElement[]} elements of cells */
  draw(elements) {
    const key = this.key();
    for (const element of elements) {
      if ((element.dataset.light ?? "") === key) continue;
      element.dataset.light = key;
      if (key) this.waiting.add(element);
      else element.querySelector("canvas")?.remove();
    }
    if (!this.busy) this.next();
  }

  /** Draw those that wait, one a picture of the screen. */
  async next() {
    this.busy = true;
    for (const element of this.waiting) {
      this.waiting.delete(element);
      if (element.isConnected && element.dataset.light) await this.one(element);
    }
    this.busy = false;
  }

  /** @param {HTMLElement} element */
  async one(element) {
    const { page } = this, index = Number(element.dataset.cell), cell = page.told.cells[index], frame = page.panes.frameOf(index);
    if (frame === undefined || !page.store.has(cell, frame, "beauty")) return;
    const lamps = Object.keys(page.state.mix).map((lamp) => `light.${lamp}`);
    await Promise.all(["beauty", ...lamps].map((pass) => page.store.load(cell, frame, pass)));
    await new Promise(requestAnimationFrame);
    const layer = page.panes.layer(index, "beauty");
    if (!layer) return;
    const { w, h: tall } = layer.picture, all = { x: 0, y: 0, w, h: tall };
    const painter = (this.painter ??= page.panes.another());
    Object.assign(painter.canvas, { width: w, height: tall });
    painter.paint(layer, all, all, BEHIND);
    const there = element.querySelector("canvas"), canvas = /** @type {HTMLCanvasElement} */ (there ?? h("canvas", { "aria-hidden": "true" }));
    const width = element.clientWidth, height = element.clientHeight, by = Math.min(width / w, height / tall);
    Object.assign(canvas, { width, height });
    const onto = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
    onto.imageSmoothingQuality = "high";
    onto.drawImage(painter.canvas, (width - w * by) / 2, (height - tall * by) / 2, w * by, tall * by);
    if (!there) element.prepend(canvas);
  }
}
