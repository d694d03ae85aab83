// What the page was told, and pixels: fetched by scripts, unpacked, kept as long as there is room.

import { unpacked } from "./decode.js";

/** @typedef {import("./decode.js").Picture} Picture */
/** @typedef {{name: string, entries: string[], sweeps: boolean}} Axis */
/** @typedef {{name: string, look: string, letters: string, says: string, lamp?: string}} Pass */
/** @typedef {{by: "keep" | "maybe" | "out" | "", note: string, at: number}} Choice */
/**
 * @typedef {object} Cell
 * @property {string} a address
 * @property {string} k key of its pixels
 * @property {number[]} at place on each axis; -1 for added cells
 * @property {string} s what is wrong with its pictures
 * @property {number[]} f frames that are there
 * @property {number} of frames that are wanted
 * @property {[number, boolean][]} [lacks] frames that are not there, and whether each failed
 * @property {number} w
 * @property {number} h
 * @property {number | null} sec seconds of its trace
 * @property {number | null} n relative error
 * @property {number | null} spp samples
 * @property {number} x exposure, stops
 * @property {boolean} stops whether the camera's own exposure counts
 * @property {number} d its display
 * @property {Record<string, number>} g its grade
 * @property {string[]} files
 * @property {boolean} panorama
 * @property {boolean} stereo left eye over right
 * @property {string} word its edits, shortly
 * @property {string} v another when its pictures are
 * @property {string} [p] its plan, where there are several
 * @property {number} [past] the cell whose earlier picture this is
 */
/**
 * @typedef {object} Told
 * @property {string} plan
 * @property {string} id of the run's ledger
 * @property {number} made when it was told, seconds since 1970
 * @property {string} title
 * @property {number} rate frames a second
 * @property {Axis[]} axes
 * @property {Pass[]} passes
 * @property {string[]} displays
 * @property {Record<string, {neutral: number, least: number, most: number, meaning: string}>} grades
 * @property {Cell[]} cells
 * @property {number} count of cells that are no earlier pictures
 * @property {string[]} pixels keys of those that can be looked into
 * @property {{size: [number, number], row: number}} thumb
 * @property {Record<string, Choice>} choices
 * @property {[number, number, number, string][]} timeline worker, from, to (seconds since the first), cell
 */

const ROOM = 6e8; // bytes of pixels

/** Whether the page comes from a server that follows the run. */
export const SERVED = typeof location !== "undefined" && location.protocol.startsWith("http");

export class Store {
  constructor() {
    /** @type {Told} */
    this.told = /** @type {any} */ (null);
    /** @type {import("./painter.js").Shaders[]} */
    this.shaders = [];
    /** @type {Map<string, Picture>} */
    this.pictures = new Map();
    /** @type {Map<string, Promise<Picture | null>>} */
    this.coming = new Map();
    /** @type {Map<string, (picture: Promise<Picture>) => void>} */
    this.waiting = new Map();
    /** @type {Map<string, unknown[][]>} */
    this.explained = new Map();
    this.held = 0;
  }

  /** What scripts of the page call. */
  get calls() {
    return {
      told: (/** @type {Told} */ told) => {
        this.told = told;
        told.count = told.cells.filter((cell) => cell.past === undefined).length;
        this.there = new Set(told.pixels);
        this.passIndex = new Map(told.passes.map((pass, k) => [pass.name, k]));
      },
      shade: (/** @type {import("./painter.js").Shaders[]} */ shaders) => { this.shaders = shaders; },
      why: (/** @type {Record<string, unknown[][]>} */ rows) => {
        for (const [cell, found] of Object.entries(rows)) this.explained.set(cell, found);
      },
      put: (/** @type {string} */ key, /** @type {import("./decode.js").Told} */ told, /** @type {string} */ data) => {
        this.waiting.get(key)?.(unpacked(told, data));
      },
    };
  }

  /** What the page is told after frames have arrived; resolves to whether anything is another. @returns {Promise<boolean>} */
  renew() {
    const before = this.told;
    return new Promise((resolve) => {
      const script = document.createElement("script");
      script.src = `told.js?${Date.now()}`;
      script.onerror = () => { script.remove(); resolve(false); };
      script.onload = () => {
        script.remove();
        const were = new Map(before.cells.map((cell) => [cell.k, cell.v]));
        for (const cell of this.told.cells) {
          if (were.get(cell.k) === cell.v) continue;
          this.explained.delete(cell.a);
          for (const key of [...this.pictures.keys()]) if (key.startsWith(`${cell.k}-`)) this.pictures.delete(key);
        }
        resolve(true);
      };
      document.head.append(script);
    });
  }

  /** @param {Cell} cell @param {number} frame @param {string} pass */
  key(cell, frame, pass) {
    return `${cell.k}-${frame}-${this.passIndex?.get(pass)}`;
  }

  /** @param {Cell} cell @param {number} frame @param {string} pass */
  has(cell, frame, pass) {
    return this.there?.has(this.key(cell, frame, pass)) ?? false;
  }

  /** A picture that is here already. @param {Cell} cell @param {number} frame @param {string} pass */
  now(cell, frame, pass) {
    return this.pictures.get(this.key(cell, frame, pass)) ?? null;
  }

  /** @param {Cell} cell @param {number} frame @param {string} pass @returns {Promise<Picture | null>} */
  load(cell, frame, pass) {
    const key = this.key(cell, frame, pass), here = this.pictures.get(key);
    if (here) {
      this.pictures.delete(key);
      this.pictures.set(key, here); // the last used stand last
      return Promise.resolve(here);
    }
    if (!this.there?.has(key)) return Promise.resolve(null);
    const known = this.coming.get(key);
    if (known) return known;
    const made = this.fetched(key).then((picture) => {
      this.coming.delete(key);
      if (picture) this.keep(key, picture);
      return picture;
    });
    this.coming.set(key, made);
    return made;
  }

  /** @param {string} key @param {Picture} picture */
  keep(key, picture) {
    this.pictures.set(key, picture);
    this.held += picture.data.byteLength;
    for (const [old, { data }] of this.pictures) {
      if (this.held <= ROOM || old === key) break;
      this.pictures.delete(old);
      this.held -= data.byteLength;
    }
  }

  /** @param {string} key @returns {Promise<Picture | null>} */
  fetched(key) {
    return new Promise((resolve) => {
      const script = document.createElement("script");
      script.src = `px/${key}.js${SERVED ? `?${this.told.made}` : ""}`;
      this.waiting.set(key, (picture) => picture.then(resolve, () => resolve(null)));
      script.onload = () => { this.waiting.delete(key); script.remove(); };
      script.onerror = () => { this.waiting.delete(key); this.there?.delete(key); script.remove(); resolve(null); };
      document.head.append(script);
    });
  }

  /** Rows of what was said of a cell. @param {number} index of the cell @returns {Promise<unknown[][] | null>} */
  why(index) {
    const cell = this.told.cells[index], here = this.explained.get(cell.a);
    if (here) return Promise.resolve(here);
    return new Promise((resolve) => {
      const script = document.createElement("script");
      script.src = `why/${Math.floor(index / 100)}.js`;
      script.onload = script.onerror = () => { script.remove(); resolve(this.explained.get(cell.a) ?? null); };
      document.head.append(script);
    });
  }
}
