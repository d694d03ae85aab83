// What a lens would throw out of focus, from a picture and its depth.

import { floatsOf } from "./decode.js";

/** @typedef {import("./decode.js").Picture} Picture */
/** @typedef {[number, number, number, number, number]} Lens focal length (m), f-number, focus (m), pitch of pixels at a
 * distance of 1, metres of a scene unit */
/** @typedef {{focus: number, fstop: number}} Focus distance in focus, metres, and f-number */

const TAPS = 96, WIDEST = 0.04; // samples of a pixel; of the width of a picture, the largest blur that is shown
const TURN = Math.PI * (3 - Math.sqrt(5)); // between samples on a spiral, so that none stand in a line

/** The radius of what a point at a distance becomes, pixels: the thin lens, whose aperture is focal length / f-number.
 * @param {Lens} lens @param {Focus} focus @param {number} metres */
export function blurOf([focal, , , pitch], focus, metres) {
  return ((focal / (2 * focus.fstop)) * Math.abs(1 / metres - 1 / focus.focus)) / pitch;
}

/**
 * A picture as a lens would show it: each pixel gathers what is spread over it; what lies behind it spreads no further
 * than the pixel is out of focus itself, so that it does not run over what is sharp before it.
 * @param {Picture} picture @param {Picture} depth along the view axis, scene units @param {Lens} lens @param {Focus} focus
 * @returns {Picture}
 */
export function defocused(picture, depth, lens, focus) {
  const { w, h, c } = picture, light = floatsOf(picture), z = floatsOf(depth), most = WIDEST * w;
  const made = new Float32Array(light.length), radius = new Float32Array(w * h), far = new Float32Array(w * h);
  let widest = 0;
  for (let k = 0; k < w * h; k++) {
    far[k] = z[k * depth.c] * lens[4];
    radius[k] = Math.min(blurOf(lens, focus, far[k]), most);
    widest = Math.max(widest, radius[k]);
  }
  if (widest < 0.5) return picture;
  const count = Math.max(8, Math.min(TAPS, Math.ceil(Math.PI * widest * widest)));
  const taps = Array.from({ length: count }, (_, k) => {
    const out = widest * Math.sqrt((k + 0.5) / count);
    return [Math.round(out * Math.cos(k * TURN)), Math.round(out * Math.sin(k * TURN)), out];
  });
  const [rights, downs] = [0, 1].map((part) => Int32Array.from(taps, (tap) => tap[part])), outs = Float64Array.from(taps, (tap) => tap[2]);
  const steps = Int32Array.from(taps, ([right, down]) => down * w + right), sum = new Float64Array(c);
  for (let y = 0, at = 0; y < h; y++) for (let x = 0; x < w; x++, at++) {
    const own = Math.max(radius[at], 0.5), here = far[at];
    let weight = 1 / (own * own);
    for (let n = 0; n < c; n++) sum[n] = light[at * c + n] * weight;
    for (let k = 0; k < count; k++) {
      const px = x + rights[k], py = y + downs[k], from = at + steps[k];
      if (px < 0 || py < 0 || px >= w || py >= h) continue;
      let spread = radius[from];
      if (spread > own && far[from] > here) spread = own;
      if (spread < 0.5) spread = 0.5;
      if (spread < outs[k]) continue;
      const share = 1 / (spread * spread);
      weight += share;
      for (let n = 0, q = from * c; n < c; n++, q++) sum[n] += light[q] * share;
    }
    for (let n = 0; n < c; n++) made[at * c + n] = sum[n] / weight;
  }
  return { ...picture, kind: "float", data: made };
}
