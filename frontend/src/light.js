// Light mixed from its passes, and noise that is left: a picture made of others.

import { floatsOf } from "./decode.js";

/** @typedef {import("./decode.js").Picture} Picture */

/** A tint such as #ffd0a0 as gains, scene-linear; white is 1. @param {string} tint @returns {number[]} */
export function gainsOf(tint) {
  return [1, 3, 5].map((at) => {
    const shown = parseInt(tint.slice(at, at + 2), 16) / 255;
    return shown <= 0.04045 ? shown / 12.92 : ((shown + 0.055) / 1.055) ** 2.4;
  });
}

/** The light pass of everything that glows and is no lamp. */
export const SURFACES = "surfaces";

/** Whether a mix changes nothing. @param {[number, string]} mixed strength and tint */
export const isAsLit = ([strength, tint]) => strength === 1 && tint === "#ffffff";

/**
 * The beauty with other strengths and tints of some lamps: light adds up, so that a lamp that is s times as strong
 * adds (s - 1) times what it added before.
 * @param {Picture} beauty @param {[Picture, [number, string]][]} lamps
 * @param {Picture | null} noisy the beauty as it was traced @param {number} left how much of its noise is left
 * @returns {Picture}
 */
export function mixed(beauty, lamps, noisy, left) {
  const made = Float32Array.from(floatsOf(beauty)), c = beauty.c;
  if (noisy && left) {
    const traced = floatsOf(noisy);
    for (let k = 0, at = 0; at < made.length; k += noisy.c, at += c) {
      for (let n = 0; n < 3; n++) made[at + n] += left * (traced[k + n] - made[at + n]);
    }
  }
  for (const [lamp, [strength, tint]] of lamps) {
    const light = floatsOf(lamp), by = gainsOf(tint).map((gain) => strength * gain - 1);
    for (let k = 0, at = 0; at < made.length; k += lamp.c, at += c) {
      for (let n = 0; n < 3; n++) made[at + n] += by[n] * light[k + n];
    }
  }
  return { ...beauty, kind: "float", data: made };
}

/** A mix as edits of a plan. @param {Record<string, [number, string]>} mix lamp → strength and tint @param {string} where addresses
 * @returns {string} */
export function asRule(mix, where) {
  const changed = Object.entries(mix).filter(([, each]) => !isAsLit(each));
  const lines = changed.filter(([lamp]) => lamp !== SURFACES).map(([lamp, [strength, tint]]) => {
    const gains = gainsOf(tint), colour = tint === "#ffffff" ? "" : `, color: [${gains.map((gain) => +gain.toFixed(4)).join(", ")}]`;
    return `      - multiply: {on: //${lamp}, intensity: ${+strength.toFixed(4)}${colour}}`;
  });
  const glow = changed.length > lines.length ? "# what glows by itself is changed in its materials, with set\n" : "";
  return lines.length ? `${glow}rules:  # beside those that the plan has\n  - at: ${where}\n    edits:\n${lines.join("\n")}\n` : glow;
}
