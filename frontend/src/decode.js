// Pixels as the page is given them, see page/pixel_packing.py: planes of whole numbers that grow with the value,
// told as differences to their neighbours, bytes of one significance together, deflated.

/**
 * @typedef {object} Told What a script says of a picture.
 * @property {number} w pixels across
 * @property {number} h pixels down
 * @property {number} c channels
 * @property {"half" | "float" | "bits"} kind
 * @property {number} [stops] the camera's own exposure
 * @property {import("./lens.js").Lens} [lens]
 * @property {Record<string, string>} [names] id in hexadecimal digits → name
 */

/**
 * @typedef {object} Picture
 * @property {number} w
 * @property {number} h
 * @property {number} c
 * @property {"half" | "float" | "bits"} kind
 * @property {Uint16Array | Float32Array | Uint32Array} data halves, floats or bits; channels of a pixel together
 * @property {number} stops
 * @property {Record<string, string>} names
 * @property {import("./lens.js").Lens | null} lens
 */

/** @param {string} text base64 @returns {Uint8Array<ArrayBuffer>} */
function bytesOf(text) {
  const letters = atob(text);
  const bytes = new Uint8Array(letters.length);
  for (let k = 0; k < letters.length; k++) bytes[k] = letters.charCodeAt(k);
  return bytes;
}

/** @param {Uint8Array<ArrayBuffer>} data @returns {Promise<Uint8Array>} */
async function inflated(data) {
  const stream = new Blob([data]).stream().pipeThrough(new DecompressionStream("deflate-raw"));
  return new Uint8Array(await new Response(stream).arrayBuffer());
}

/** @param {Told} told @param {string} text base64 @returns {Promise<Picture>} */
export async function unpacked(told, text) {
  return laidOut(told, await inflated(bytesOf(text)));
}

/** @param {Told} told @param {Uint8Array} bytes inflated @returns {Picture} */
export function laidOut(told, bytes) {
  const { w, h, c, kind } = told;
  const size = kind === "half" ? 2 : 4;
  const count = w * h * c;
  const planes = kind === "half" ? new Uint16Array(count) : new Uint32Array(count);
  for (let k = 0; k < count; k++) {
    let folded = 0;
    for (let part = 0; part < size; part++) folded = (folded << 8) | bytes[part * count + k];
    planes[k] = (folded >>> 1) ^ -(folded & 1);
  }
  const top = kind === "half" ? 0x8000 : 0x80000000;
  const whole = kind === "half" ? new Uint16Array(count) : new Uint32Array(count);
  for (let channel = 0; channel < c; channel++) {
    const plane = planes.subarray(channel * w * h, (channel + 1) * w * h);
    for (let y = 0, at = 0; y < h; y++) {
      let left = 0; // what was left out of this row so far
      for (let x = 0; x < w; x++, at++) {
        left = (left + plane[at]) | 0;
        plane[at] = left + (y ? plane[at - w] : 0);
        const grown = plane[at];
        whole[at * c + channel] = kind === "bits" ? grown : grown & top ? grown ^ top : ~grown;
      }
    }
  }
  const data = kind === "float" ? new Float32Array(whole.buffer) : whole;
  return { w, h, c, kind, data, stops: told.stops ?? 0, names: told.names ?? {}, lens: told.lens ?? null };
}

const HALVES = (() => {
  const table = new Float32Array(65536);
  for (let bits = 0; bits < 65536; bits++) {
    const sign = bits & 0x8000 ? -1 : 1, exponent = (bits >> 10) & 31, rest = bits & 1023;
    if (exponent === 31) table[bits] = rest ? NaN : sign * Infinity;
    else table[bits] = sign * (exponent ? 2 ** (exponent - 15) * (1 + rest / 1024) : 2 ** -24 * rest);
  }
  return table;
})();

/** All values of a picture as floats. @param {Picture} picture @returns {Float32Array} */
export function floatsOf(picture) {
  if (picture.kind === "float") return /** @type {Float32Array} */ (picture.data);
  const made = new Float32Array(picture.data.length), data = picture.data;
  if (picture.kind === "bits") return new Float32Array(/** @type {Uint32Array} */ (data).buffer);
  for (let k = 0; k < made.length; k++) made[k] = HALVES[data[k]];
  return made;
}

/** The values of a pixel. @param {Picture} picture @param {number} x @param {number} y @returns {number[]} */
export function valuesAt(picture, x, y) {
  const at = (y * picture.w + x) * picture.c, found = [];
  for (let k = 0; k < picture.c; k++) {
    const value = picture.data[at + k];
    found.push(picture.kind === "half" ? HALVES[value] : value);
  }
  return found;
}

/** How far two pictures are apart: the mean difference of their channels as a share of their mean. @param {Picture} one
 * @param {Picture} other @returns {number | null} null where they have other sizes */
export function apartOf(one, other) {
  if (one.w !== other.w || one.h !== other.h) return null;
  const a = floatsOf(one), b = floatsOf(other), n = Math.min(3, one.c, other.c);
  let sum = 0, apart = 0;
  for (let k = 0; k < one.w * one.h; k++) for (let c = 0; c < n; c++) {
    const p = a[k * one.c + c], q = b[k * other.c + c];
    if (!Number.isFinite(p) || !Number.isFinite(q)) continue;
    sum += Math.abs(p) + Math.abs(q);
    apart += Math.abs(p - q);
  }
  return sum ? (2 * apart) / sum : 0;
}

const SCRATCH = new DataView(new ArrayBuffer(4));

/** Names of ids at a pixel, and how much of it each covers. @param {Picture} picture @param {number} x
 * @param {number} y @returns {[string, number][]} */
export function namesAt(picture, x, y) {
  const bits = valuesAt(picture, x, y);
  /** @type {[string, number][]} */
  const found = [];
  for (let k = 0; k + 1 < bits.length; k += 2) {
    SCRATCH.setUint32(0, bits[k + 1]);
    const covers = SCRATCH.getFloat32(0), id = bits[k].toString(16).padStart(8, "0");
    if (bits[k] && covers > 0) found.push([picture.names[id] ?? id, covers]);
  }
  return found;
}
