// The parts of the page that compute, without a browser.

import assert from "node:assert/strict";
import { test } from "node:test";
import { deflateRawSync } from "node:zlib";

import { asTable, merged } from "../src/choices.js";
import { floatsOf, namesAt, unpacked, valuesAt } from "../src/decode.js";
import { isNeutral, said, uniformsOf } from "../src/grade.js";
import { blurOf, defocused } from "../src/lens.js";
import { asRule, gainsOf, mixed } from "../src/light.js";
import { figure, rangesOf } from "../src/looks.js";
import { within } from "../src/matrix.js";
import { OTHERS, along, asHash, chosen, first, fromHash, viewOf, viewed } from "../src/state.js";

/** Packs as page/pixel_packing.py does, plainly. */
function packed(planes, w, h, size) {
  const most = 2n ** BigInt(8 * size), folded = [];
  for (const plane of planes) {
    const at = (x, y) => (x < 0 || y < 0 ? 0n : BigInt(plane[y * w + x]));
    for (let y = 0; y < h; y++) for (let x = 0; x < w; x++) {
      let d = (at(x, y) - at(x - 1, y) - at(x, y - 1) + at(x - 1, y - 1) + 4n * most) % most;
      d = d >= most / 2n ? 2n * (most - d) - 1n : 2n * d;
      folded.push(d);
    }
  }
  const bytes = [];
  for (let part = size - 1; part >= 0; part--) for (const d of folded) bytes.push(Number((d >> BigInt(8 * part)) & 255n));
  return deflateRawSync(Buffer.from(bytes)).toString("base64");
}

const half = (bits) => (bits & 0x8000 ? ~bits & 0xffff : bits | 0x8000);

test("halves come back as they were", async () => {
  const bits = [0x3c00, 0xbc00, 0x0000, 0x7bff, 0x0001, 0x8001]; // 1, -1, 0, 65504, the least above and below 0
  const picture = await unpacked({ w: 3, h: 2, c: 1, kind: "half" }, packed([bits.map(half)], 3, 2, 2));
  assert.deepEqual([...floatsOf(picture)], [1, -1, 0, 65504, 2 ** -24, -(2 ** -24)]);
});

test("floats and infinities come back as they were", async () => {
  const values = new Float32Array([1.5, -2.25, Infinity, 0, 1e-30, 3e38]), whole = new Uint32Array(values.buffer);
  const planes = [[...whole].map((bits) => (bits & 0x80000000 ? ~bits >>> 0 : (bits | 0x80000000) >>> 0))];
  const picture = await unpacked({ w: 2, h: 3, c: 1, kind: "float" }, packed(planes, 2, 3, 4));
  assert.deepEqual([...floatsOf(picture)], [...values]);
  assert.deepEqual(valuesAt(picture, 0, 1), [Infinity]);
});

test("ids are named, with how much they cover", async () => {
  const cover = new Uint32Array(new Float32Array([0.75]).buffer)[0];
  const told = { w: 1, h: 1, c: 4, kind: "bits", names: { "0000beef": "/World/Cup" } };
  const picture = await unpacked(told, packed([[0xbeef], [cover], [0], [0]], 1, 1, 4));
  assert.deepEqual(namesAt(picture, 0, 0), [["/World/Cup", 0.75]]);
});

test("a neutral grade changes nothing, and a warm one raises red as much as it lowers blue", () => {
  assert.ok(isNeutral({ contrast: 1, tint: 0 }));
  assert.deepEqual(said({ contrast: 1, tint: 0.5 }), { tint: 0.5 });
  const told = uniformsOf({ temperature: 2 });
  assert.deepEqual(told.ocio_grading_primary_exposure, [2, 1, 0.5]);
  assert.equal(told.ocio_grading_tone_localBypass, true);
});

const plain = (data, c) => ({ w: data.length / c, h: 1, c, kind: "float", data: new Float32Array(data), stops: 0, names: {} });

test("a lamp that is twice as strong adds its light once more, alpha stays", () => {
  const beauty = plain([3, 3, 3, 0.5], 4), lamp = plain([1, 2, 0], 3);
  assert.deepEqual([...mixed(beauty, [[lamp, [2, "#ffffff"]]], null, 0).data], [4, 5, 3, 0.5]);
  assert.deepEqual([...mixed(beauty, [[lamp, [0, "#ffffff"]]], null, 0).data], [2, 1, 3, 0.5]);
  assert.deepEqual([...mixed(beauty, [], plain([5, 1, 3], 3), 0.5).data], [4, 2, 3, 0.5]);
  assert.deepEqual(gainsOf("#ffffff"), [1, 1, 1]);
  assert.match(asRule({ surfaces: [2, "#ffffff"] }, "{}"), /^# what glows/);
  assert.match(asRule({ Key: [2, "#ffffff"], Rim: [1, "#ffffff"] }, "{light: noon}"), /at: {light: noon}\n    edits:\n      - multiply: {on: \/\/Key, intensity: 2}\n$/);
});

test("ranges leave out what is infinite, figures stay short", () => {
  assert.deepEqual(rangesOf("distance", [plain([2, Infinity, 4], 1)]), [[2, 4]]);
  assert.equal(figure(0.123456), "0.1235");
  assert.equal(figure(Infinity), "∞");
});

test("of each cell the newest choice counts, whichever order they come in", () => {
  const old = { a: { by: "keep", note: "", at: 1 } }, late = { a: { by: "out", note: "", at: 2 }, b: { by: "maybe", note: "", at: 1 } };
  assert.deepEqual(merged(old, late), merged(late, old));
  assert.equal(merged(old, late).a.by, "out");
});

const TOLD = {
  plan: "p", axes: [{ name: "light", entries: ["noon", "night"], sweeps: false }, { name: "camera", entries: ["Wide", "Dial"], sweeps: false }],
  passes: [{ name: "beauty", look: "light", letters: "RGBA", says: "" }],
  cells: [["noon/Wide", [0, 0]], ["noon/Dial", [0, 1]], ["night/Wide", [1, 0]]].map(([a, at]) => ({ a, at, s: "" })),
};

test("a table of choices quotes what stands in notes", () => {
  const table = asTable({ "noon/Wide": { by: "keep", note: 'so "warm", ok', at: 0 } }, TOLD);
  assert.match(table, /"noon\/Wide","noon","Wide","keep","so ""warm"", ok"/);
});

test("a link brings what was looked at back, and a broken one the page as it is", () => {
  const usual = first(TOLD), state = { ...usual, view: "panes", panes: [2, 0], stops: 1.5, grade: { tint: 0.5 } };
  assert.deepEqual(fromHash(asHash(state, usual), usual, TOLD), state);
  assert.equal(asHash(usual, usual), "");
  assert.equal(usual.rows, OTHERS);
  for (const broken of ["#%7B", "#null", "#%22x%22", `#${encodeURIComponent('{"panes":[99],"view":"panes","pass":7}')}`]) assert.deepEqual(fromHash(broken, usual, TOLD), usual);
});

test("cells are found by entries, words and choices, and neighbours along an axis", () => {
  const usual = first(TOLD), choices = { "night/Wide": { by: "out", note: "too dark", at: 1 } };
  assert.deepEqual(chosen(TOLD, { ...usual, only: { light: "noon" } }, choices), [0, 1]);
  assert.deepEqual(chosen(TOLD, { ...usual, search: "dark wide" }, choices), [2]);
  assert.deepEqual(chosen(TOLD, { ...usual, choice: "none" }, choices), [0, 1]);
  assert.equal(along(TOLD, 0, "light", 1), 2);
  assert.equal(along(TOLD, 1, "light", 1), 1); // there is no such cell: it stays
});

test("panes that are together show the same part, others each its own", () => {
  const usual = first(TOLD), together = { ...usual, ...viewed(usual, 1, [2, 0.3, 0.4]) };
  assert.deepEqual([viewOf(together, 0), viewOf(together, 1)], [[2, 0.3, 0.4], [2, 0.3, 0.4]]);
  const apart = { ...together, locked: false }, moved = { ...apart, ...viewed(apart, 1, [4, 0.1, 0.2]) };
  assert.deepEqual([viewOf(moved, 0), viewOf(moved, 1)], [[2, 0.3, 0.4], [4, 0.1, 0.2]]);
});

test("what stands between two places is found among spans", () => {
  const spans = [0, 10, 20, 30].map((at) => ({ at, long: 10 }));
  assert.deepEqual([within(spans, -5, 100), within(spans, 10, 20), within(spans, 12, 25), within(spans, 50, 60), within([], 0, 9)], [[0, 4], [1, 2], [1, 3], [4, 4], [0, 0]]);
});

test("a point out of focus becomes as wide as a thin lens makes it", () => {
  // 50 mm at f/2 in focus at 2 m, on a film 36 mm wide across 200 pixels; a point at 1 m.  By similar triangles the
  // cone behind the lens is 25 mm wide, and on the film it is 25 mm × 50 mm × (1/1 m - 1/2 m) = 0.625 mm, 3.47 pixels.
  const lens = [0.05, 2, 2, 36 / 50 / 200, 1], focus = { focus: 2, fstop: 2 };
  assert.ok(Math.abs(2 * blurOf(lens, focus, 1) - 0.625 / 0.18) < 1e-3);
  const w = 161, data = new Float32Array(w * w * 3), z = new Float32Array(w * w).fill(1), middle = 80 * w + 80;
  data.fill(100, 3 * middle, 3 * middle + 3);
  const wide = [0.05, 2, 2, (36 / 50 / 200) / 3, 1]; // three times the pixels: 10.4 pixels wide
  const seen = defocused({ w, h: w, c: 3, kind: "float", data, stops: 0, names: {}, lens: wide }, { w, h: w, c: 1, kind: "float", data: z, stops: 0, names: {}, lens: null }, wide, focus).data;
  const lit = (x) => seen[3 * (80 * w + x)] > 0;
  assert.ok(lit(80) && !lit(87) && !lit(73));
  const reach = Math.max(...Array.from({ length: w * w }, (_, k) => (seen[3 * k] > 0 ? Math.hypot((k % w) - 80, Math.floor(k / w) - 80) : 0)));
  assert.ok(Math.abs(reach - 5.2) < 1, `reaches ${reach}`);
});
