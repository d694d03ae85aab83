// What is looked at, and how; kept in the address of the page, so that a link opens it again.

/**
 * @typedef {object} State
 * @property {"matrix" | "panes"} view
 * @property {string} rows axis whose entries are rows; `OTHERS`: a row for each combination of those that are not across
 * @property {string} cols axis whose entries are columns
 * @property {Record<string, string>} only axis → the one entry that is shown
 * @property {string} search
 * @property {string} choice only cells with this choice
 * @property {number} at the cell in focus
 * @property {number[]} panes cells side by side
 * @property {number} active which pane keys go to
 * @property {string} pass
 * @property {number} frame its place among the frames of a cell
 * @property {number} stops beside each cell's exposure
 * @property {number} display -1: each cell's own
 * @property {"side" | "wipe" | "flip" | "apart"} mode
 * @property {number} wipe 0..1
 * @property {number} flip which pane is seen
 * @property {boolean} locked all panes show the same part
 * @property {[number, number, number][]} views zoom, x and y of each pane where they are not locked
 * @property {number} eye of a stereo panorama: 0 both, 1 left, 2 right
 * @property {number} zoom 1: fitted
 * @property {number} x what part of the picture is in the middle, 0..1
 * @property {number} y
 * @property {Record<string, number>} grade
 * @property {Record<string, [number, string]>} mix lamp → strength and tint
 * @property {number[]} lens distance in focus (metres) and f-number; none: as it was rendered
 * @property {number} noisy how much of the noise is left, 0..1
 * @property {string} sweep axis that is dragged along
 * @property {string} panel
 * @property {number} size of small pictures
 * @property {"grey" | "dark" | "light"} around
 * @property {number} turn of a panorama, degrees
 */

/** All axes that are not across, together. */
export const OTHERS = "*";

/** @param {import("./store.js").Told} told @returns {State} */
export function first(told) {
  const axes = told.axes.filter((axis) => axis.entries.length > 1).map((axis) => axis.name);
  return {
    view: "matrix", rows: OTHERS, cols: axes[axes.length - 1] ?? "", only: {},
    search: "", choice: "", at: 0, panes: [], active: 0, pass: "beauty", frame: 0, stops: 0, display: -1, mode: "side", wipe: 0.5,
    flip: 0, locked: true, views: [], eye: 0, zoom: 1, x: 0.5, y: 0.5, grade: {}, mix: {}, lens: [], noisy: 0,
    sweep: told.axes.find((axis) => axis.sweeps)?.name ?? axes[0] ?? "", panel: "cell", size: 160, around: "grey", turn: 0,
  };
}

/** @param {State} state @param {State} usual */
export function asHash(state, usual) {
  const differs = Object.entries(state).filter(([key, value]) => JSON.stringify(value) !== JSON.stringify(/** @type {any} */ (usual)[key]));
  return differs.length ? `#${encodeURIComponent(JSON.stringify(Object.fromEntries(differs)))}` : "";
}

/** @param {string} hash @param {State} usual @param {import("./store.js").Told} told @returns {State} */
export function fromHash(hash, usual, told) {
  /** @type {Record<string, unknown>} */
  let said = {};
  try {
    said = JSON.parse(decodeURIComponent(hash.slice(1)) || "{}");
  } catch { /* a link that was cut off opens the page as it is */ }
  const made = /** @type {any} */ ({ ...usual });
  for (const [key, value] of Object.entries(said ?? {})) {
    if (key in made && typeof value === typeof made[key] && Array.isArray(value) === Array.isArray(made[key])) made[key] = value;
  }
  const known = (/** @type {unknown} */ index) => Number.isInteger(index) && /** @type {number} */ (index) >= 0 && /** @type {number} */ (index) < told.cells.length;
  made.panes = made.panes.filter(known).slice(0, 4);
  if (!known(made.at)) made.at = 0;
  if (made.view !== "panes" || !made.panes.length) made.view = "matrix";
  if (!told.passes.some((pass) => pass.name === made.pass)) made.pass = "beauty";
  return made;
}

/** Which part of its picture a pane shows. @param {State} state @param {number} pane @returns {[number, number, number]} zoom, x, y */
export function viewOf(state, pane) {
  return (state.locked ? null : state.views[pane]) ?? [state.zoom, state.x, state.y];
}

/** What changes where a pane shows another part. @param {State} state @param {number} pane @param {[number, number, number]} view
 * @returns {Partial<State>} */
export function viewed(state, pane, view) {
  if (state.locked) return { zoom: view[0], x: view[1], y: view[2] };
  return { views: [0, 1, 2, 3].map((k) => (k === pane ? view : viewOf(state, k))) };
}

/** Cells that are shown. @param {import("./store.js").Told} told @param {State} state @param {Record<string, import("./store.js").Choice>} choices */
export function chosen(told, state, choices) {
  const words = state.search.toLowerCase().split(/\s+/).filter(Boolean);
  const wanted = told.axes.map((axis) => (state.only[axis.name] === undefined ? -1 : axis.entries.indexOf(state.only[axis.name])));
  return told.cells.map((_, index) => index).filter((index) => {
    const cell = told.cells[index];
    if (cell.past !== undefined) return false;
    if (wanted.some((entry, k) => entry >= 0 && cell.at[k] !== entry)) return false;
    if (state.choice && (choices[cell.a]?.by || "none") !== state.choice) return false;
    const text = `${cell.a} ${cell.s} ${choices[cell.a]?.note ?? ""}`.toLowerCase();
    return words.every((word) => text.includes(word));
  });
}

/** The cell that is a step along an axis from another. @param {import("./store.js").Told} told @param {number} index
 * @param {string} axis @param {number} entry its place on the axis */
export function along(told, index, axis, entry) {
  const k = told.axes.findIndex((each) => each.name === axis), here = told.cells[index].at;
  if (k < 0 || here[k] < 0) return index;
  const found = told.cells.findIndex((cell) => cell.past === undefined && cell.at.every((at, n) => (n === k ? at === entry : at === here[n])));
  return found < 0 ? index : found;
}
