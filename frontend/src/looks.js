// How passes are shown that are no light: the same meanings as in files, see images/pass_display.py.

import { floatsOf } from "./decode.js";

/** @typedef {import("./decode.js").Picture} Picture */

/** Colours of measures from low to high, each lighter than the one before. */
export const RAMP = [
  [0.05, 0.04, 0.16], [0.19, 0.15, 0.47], [0.14, 0.36, 0.58], [0.15, 0.55, 0.47], [0.55, 0.68, 0.24],
  [0.95, 0.73, 0.25], [1.0, 0.95, 0.82],
];
export const MOTION = 32; // pixels from one frame to the next that are shown as white

/** Numbers of looks in the program that paints them. @type {Record<string, number>} */
export const LOOKS = {
  light: 0, colour: 1, share: 2, direction: 3, distance: 4, place: 5, coordinates: 6, motion: 7, amount: 8, lux: 9,
  ids: 10,
};

/** What is shown at either end of a scale, over some pictures. @param {string} look @param {Picture[]} pictures
 * @returns {[number, number][]} */
export function rangesOf(look, pictures) {
  if (!["distance", "amount", "place", "lux"].includes(look)) return [[0, 1]];
  const channels = look === "place" ? 3 : 1;
  /** @type {[number, number][]} */
  const found = [];
  for (let channel = 0; channel < channels; channel++) {
    let low = Infinity, high = -Infinity;
    for (const picture of pictures) {
      const values = floatsOf(picture);
      for (let k = channel; k < values.length; k += picture.c) {
        const value = values[k];
        if (Number.isFinite(value) && (look !== "lux" || value > 0)) {
          if (value < low) low = value;
          if (value > high) high = value;
        }
      }
    }
    if (low > high) [low, high] = [0, 1];
    if (look === "lux") low = Math.max(low, high / 10000);
    found.push([low, high > low ? high : low + Math.max(Math.abs(low), 1e-6)]);
  }
  return found;
}

/** A colour of the ramp. @param {number} place 0..1 */
export function rampAt(place) {
  const at = Math.min(Math.max(place, 0), 1) * (RAMP.length - 1), k = Math.min(Math.floor(at), RAMP.length - 2);
  return RAMP[k].map((value, channel) => value + (RAMP[k + 1][channel] - value) * (at - k));
}

/** The colour of an id, made of its bits. @param {number} id */
export const colourOfId = (id) => [0, 8, 16].map((shift) => 0.2 + (0.8 * ((id >>> shift) & 255)) / 255);

/** A value in few digits. @param {number} value */
export function figure(value) {
  if (!Number.isFinite(value)) return value > 0 ? "∞" : String(value);
  const size = Math.abs(value);
  if (size && (size < 1e-3 || size >= 1e6)) return value.toExponential(2);
  return String(Number(value.toPrecision(4)));
}
