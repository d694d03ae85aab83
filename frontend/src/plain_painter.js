// Pictures onto a canvas without a graphics processor: the same, by tables; within three codes of 255.

import { floatsOf, namesAt } from "./decode.js";
import { isNeutral } from "./grade.js";
import { LOOKS, MOTION, colourOfId, rampAt } from "./looks.js";

/** @typedef {import("./decode.js").Picture} Picture */
/** @typedef {import("./painter.js").Layer} Layer */
/** @typedef {import("./painter.js").Box} Box */

const EDGE = 33, FIRST = -10, LAST = 7; // as in images/display_shader.py
const GREY = 0.18;

export class PlainPainter {
  /** @param {HTMLCanvasElement} canvas @param {import("./painter.js").Shaders[]} shaders */
  constructor(canvas, shaders) {
    this.canvas = canvas;
    this.context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d", { alpha: false }));
    this.tables = shaders.map((shader) => Uint8Array.from(atob(shader.table), (letter) => letter.charCodeAt(0)));
    /** @type {Map<string, HTMLCanvasElement>} */
    this.made = new Map();
    /** @type {WeakMap<Picture, number>} */
    this.numbers = new WeakMap();
    this.count = 0;
  }

  /** @param {Picture} picture */
  number(picture) {
    if (!this.numbers.has(picture)) this.numbers.set(picture, this.count++);
    return this.numbers.get(picture);
  }

  /** @param {[number, number, number]} grey */
  wipe(grey) {
    this.context.fillStyle = `rgb(${grey.map((part) => Math.round(255 * part)).join(" ")})`;
    this.context.fillRect(0, 0, this.canvas.width, this.canvas.height);
  }

  /** @param {Layer} layer @param {Box} box @param {Box} seen @param {[number, number, number]} clear */
  paint(layer, box, seen, clear) {
    const key = JSON.stringify([
      this.number(layer.picture), layer.look, layer.stops, layer.display, layer.grade, layer.ranges, clear,
      layer.apart ? this.number(layer.apart.picture) : -1,
    ]);
    let still = this.made.get(key);
    if (!still) {
      still = this.drawn(layer, clear);
      this.made.set(key, still);
      for (const old of this.made.keys()) {
        if (this.made.size <= 24) break;
        this.made.delete(old);
      }
    }
    this.context.save();
    this.context.beginPath();
    this.context.rect(seen.x, seen.y, seen.w, seen.h);
    this.context.clip();
    this.context.imageSmoothingEnabled = box.w < still.width;
    this.context.drawImage(still, box.x, box.y, box.w, box.h);
    this.context.restore();
  }

  /** @param {Layer} layer @param {[number, number, number]} clear */
  drawn(layer, clear) {
    const { w, h, c } = layer.picture, still = document.createElement("canvas");
    still.width = w;
    still.height = h;
    const context = /** @type {CanvasRenderingContext2D} */ (still.getContext("2d")), image = context.createImageData(w, h);
    const paint = layer.apart ? this.difference(layer) : layer.look === "light" ? this.light(layer, clear) : this.data(layer);
    for (let k = 0; k < w * h; k++) {
      const [r, g, b] = paint(k * c, k);
      image.data.set([r, g, b, 255], 4 * k);
    }
    context.putImageData(image, 0, 0);
    return still;
  }

  /** @param {Layer} layer @param {[number, number, number]} clear @returns {(at: number) => number[]} */
  light(layer, clear) {
    const values = floatsOf(layer.picture), gain = 2 ** layer.stops, hasAlpha = layer.picture.c === 4;
    const table = this.tables[layer.display], graded = layer.grade && !isNeutral(layer.grade) ? grading(layer.grade) : null;
    return (at) => {
      const alpha = hasAlpha ? Math.min(Math.max(values[at + 3], 0), 1) : 1, by = gain / (alpha > 1e-4 ? alpha : 1);
      let light = [values[at] * by, values[at + 1] * by, values[at + 2] * by];
      if (graded) light = graded(light);
      const shown = looked(table, light);
      return [0, 1, 2].map((k) => shown[k] * alpha + 255 * clear[k] * (1 - alpha));
    };
  }

  /** @param {Layer} layer @returns {(at: number) => number[]} */
  difference(layer) {
    const ours = floatsOf(layer.picture), other = /** @type {Layer} */ (layer.apart).picture, theirs = floatsOf(other);
    const { c } = layer.picture, [low, high] = layer.ranges[0];
    return (at) => {
      let most = 0;
      const there = (at / c) * other.c;
      for (let k = 0; k < Math.min(3, c, other.c); k++) {
        if (ours[at + k] !== theirs[there + k]) most = Math.max(most, Math.abs(ours[at + k] - theirs[there + k]));
      }
      return rampAt((Math.min(most, high) - low) / (high - low)).map((part) => 255 * part);
    };
  }

  /** @param {Layer} layer @returns {(at: number, pixel: number) => number[]} */
  data(layer) {
    const { picture, ranges } = layer, look = LOOKS[layer.look] ?? LOOKS.share, values = floatsOf(picture);
    const scaled = (/** @type {number} */ value, k = 0) => {
      const [low, high] = ranges[k] ?? ranges[0];
      return Number.isFinite(value) ? (value - low) / Math.max(high - low, 1e-12) : 1;
    };
    /** @param {number} at @param {number} pixel @returns {number[]} */
    const shown = (at, pixel) => {
      const [r, g, b] = [values[at], picture.c > 1 ? values[at + 1] : 0, picture.c > 2 ? values[at + 2] : 0];
      if (look === LOOKS.colour) return [r, g, b].map((part) => (part > 0.0031308 ? 1.055 * part ** (1 / 2.4) - 0.055 : 12.92 * part));
      if (look === LOOKS.direction) return [r, g, b].map((part) => part / 2 + 0.5);
      if (look === LOOKS.distance) return Array(3).fill(1 - scaled(r));
      if (look === LOOKS.amount) return Array(3).fill(scaled(r));
      if (look === LOOKS.place) return [scaled(r), scaled(g, 1), scaled(b, 2)];
      if (look === LOOKS.motion) return [r / (2 * MOTION) + 0.5, g / (2 * MOTION) + 0.5, 0];
      if (look === LOOKS.lux) return rampAt(Math.log(Math.max(r, ranges[0][0]) / ranges[0][0]) / Math.log(ranges[0][1] / ranges[0][0]));
      if (look === LOOKS.ids) {
        const found = namesAt(picture, pixel % picture.w, Math.floor(pixel / picture.w)), ids = /** @type {Uint32Array} */ (picture.data);
        return found.reduce((sum, [, covers], k) => sum.map((part, n) => part + covers * colourOfId(ids[at + 2 * k])[n]), [0, 0, 0]);
      }
      return picture.c > 1 ? [r, g, b] : [r, r, r];
    };
    return (at, pixel) => shown(at, pixel).map((part) => 255 * Math.min(Math.max(part || 0, 0), 1));
  }
}

/** What a display shows of light, from its table. @param {Uint8Array} table @param {number[]} light */
function looked(table, light) {
  const places = light.map((value) => {
    const stops = value > 0 ? Math.log2(value / GREY) : FIRST;
    const step = (LAST - FIRST) / (EDGE - 1), first = GREY * 2 ** (FIRST + step);
    const at = value < first ? Math.max(value, 0) / first : (stops - FIRST) / step;
    return Math.min(at, EDGE - 1 - 1e-6);
  });
  const floors = places.map(Math.floor), parts = places.map((place, k) => place - floors[k]), sum = [0, 0, 0];
  for (let corner = 0; corner < 8; corner++) {
    let weight = 1, at = 0;
    for (let k = 0; k < 3; k++) {
      const up = (corner >> k) & 1;
      weight *= up ? parts[k] : 1 - parts[k];
      at = at * EDGE + floors[k] + up;
    }
    if (weight) for (let k = 0; k < 3; k++) sum[k] += weight * table[3 * at + k];
  }
  return sum;
}

/** The operations of a grade but for its tones, which are near. @param {import("./grade.js").Grade} grade */
function grading(grade) {
  const warm = grade.temperature ?? 0, tint = grade.tint ?? 0, contrast = grade.contrast ?? 1, colourful = grade.saturation ?? 1;
  const gains = [warm / 2 + tint / 3, (-2 * tint) / 3, -warm / 2 + tint / 3].map((stops) => 2 ** (stops + (grade.exposure ?? 0) * contrast));
  return (/** @type {number[]} */ light) => {
    const bent = light.map((value, k) => gains[k] * GREY * Math.sign(value) * Math.abs(value / GREY) ** contrast);
    const luma = 0.2126 * bent[0] + 0.7152 * bent[1] + 0.0722 * bent[2], stops = Math.log2(Math.max(luma, 1e-6) / GREY);
    const lift = (grade.shadows ?? 0) * Math.min(Math.max((-stops - 1) / 4, 0), 1) + (grade["mid-tones"] ?? 0) * Math.exp(-((stops / 3) ** 2))
      + (grade.highlights ?? 0) * Math.min(Math.max((stops - 0.5) / 4, 0), 1);
    return bent.map((value) => (luma + colourful * (value - luma)) * 2 ** lift);
  };
}
