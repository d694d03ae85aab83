// All cells as a grid of small pictures: one axis down, one across, the others side by side within a place.

import { h } from "./dom.js";
import { MARKS } from "./choices.js";
import { OTHERS, chosen } from "./state.js";
import { SERVED } from "./store.js";

/** @typedef {import("./store.js").Cell} Cell */
/** @typedef {import("./main.js").Page} Page */

/** Signs of what is wrong, so that no state is told by colour alone. @type {Record<string, string>} */
export const SIGNS = {
  failed: "✗", "out of date": "↻", "not rendered": "□", "frames missing": "▤", unfinished: "…",
};

export class Matrix {
  /** @param {Page} page */
  constructor(page) {
    this.page = page;
    this.element = h("div.matrix", { role: "grid", "aria-label": "cells" });
    this.element.addEventListener("click", (event) => {
      const index = this.indexOf(event);
      if (index < 0) return;
      if (event.shiftKey || event.ctrlKey || event.metaKey) page.toggle(index);
      else page.update({ at: index });
    });
    this.element.addEventListener("dblclick", (event) => {
      const index = this.indexOf(event);
      if (index >= 0) page.lookAt([index]);
    });
    this.element.addEventListener("pointerover", (event) => page.hovered(this.indexOf(event)));
    this.element.addEventListener("focusin", (event) => {
      const index = this.indexOf(event);
      if (index >= 0 && index !== page.state.at) page.update({ at: index });
    });
    this.drawn = "";
    /** @type {number[][]} */
    this.lines = [];
  }

  /** @param {Event} event */
  indexOf(event) {
    const cell = /** @type {HTMLElement} */ (event.target).closest?.("[data-cell]");
    return cell ? Number(/** @type {HTMLElement} */ (cell).dataset.cell) : -1;
  }

  draw() {
    const { state } = this.page;
    const shape = JSON.stringify([state.rows, state.cols, state.only, state.search, state.choice, state.size]);
    if (shape !== this.drawn) {
      this.drawn = shape;
      this.build();
    }
    for (const element of this.element.querySelectorAll("[data-cell]")) this.mark(/** @type {HTMLElement} */ (element));
  }

  build() {
    const { state, told, choices } = this.page, indices = chosen(told, state, choices);
    const place = (/** @type {string} */ name) => told.axes.findIndex((axis) => axis.name === name);
    const across = place(state.cols);
    const down = state.rows === OTHERS ? told.axes.map((_, k) => k).filter((k) => k !== across && told.axes[k].entries.length > 1) : [place(state.rows)].filter((k) => k >= 0);
    /** Rows by the entries they are of. @type {Map<string, Map<number, number[]>>} */
    const places = new Map();
    for (const index of indices) {
      const { at } = told.cells[index], row = down.map((k) => at[k]).join(), column = across < 0 ? 0 : at[across];
      if (!places.has(row)) places.set(row, new Map());
      const line = /** @type {Map<number, number[]>} */ (places.get(row));
      line.set(column, [...(line.get(column) ?? []), index]);
    }
    const columns = [...new Set(indices.map((index) => (across < 0 ? 0 : told.cells[index].at[across])))].sort((a, b) => a - b);
    const most = columns.map((column) => Math.max(1, ...[...places.values()].map((line) => line.get(column)?.length ?? 0)));
    const [width, height] = this.size(), gap = 6;
    const wide = across < 0 ? most.map(() => "1fr") : most.map((count) => `${Math.min(count, 4) * (width + gap) + gap}px`);
    const named = down.length > 0;
    this.element.style.setProperty("--columns", `${named ? "var(--name) " : ""}${wide.join(" ")}`);
    const text = (/** @type {number} */ axis, /** @type {number} */ entry) => (entry < 0 ? "added" : told.axes[axis].entries[entry]);
    const head = across < 0 ? null : h("div.row.head", { role: "row" },
      named && h("div.corner", { role: "columnheader" }, h("span.axis", {}, `${down.map((k) => told.axes[k].name).join(" · ")} ↓  ${state.cols} →`)),
      ...columns.map((column) => h("div.column", { role: "columnheader" }, text(across, column))));
    this.lines = [];
    const order = (/** @type {string} */ one, /** @type {string} */ other) => {
      const [a, b] = [one.split(",").map(Number), other.split(",").map(Number)], k = a.findIndex((entry, n) => entry !== b[n]);
      return k < 0 ? 0 : a[k] - b[k];
    };
    const rows = [...places.keys()].sort(order).map((row) => {
      const line = /** @type {Map<number, number[]>} */ (places.get(row)), cells = columns.flatMap((column) => line.get(column) ?? []);
      this.lines.push(cells);
      const tall = Math.max(1, ...columns.map((column, k) => Math.ceil((line.get(column)?.length ?? 0) / (across < 0 ? 6 : Math.min(most[k], 4)))));
      return h("div.row", { role: "row", style: `contain-intrinsic-height: ${tall * (height + gap) + gap}px` },
        named && h("div.name", { role: "rowheader" }, row.split(",").map((entry, k) => text(down[k], Number(entry))).join(" · ")),
        ...columns.map((column) => h("div.place", { role: "gridcell" }, ...(line.get(column) ?? []).map((index) => this.cell(index, width, height)))));
    });
    this.element.replaceChildren(...(head ? [head] : []), ...rows);
    if (!rows.length) this.element.append(h("p.empty", { role: "row" }, h("span", { role: "gridcell" }, "No cell is left. Clear the search or the filters.")));
    if (indices.length && !indices.includes(state.at)) this.page.update({ at: indices[0] });
  }

  /** @returns {[number, number]} */
  size() {
    const [width, height] = this.page.told.thumb.size, by = this.page.state.size / width;
    return [Math.round(width * by), Math.round(height * by)];
  }

  /** @param {number} index @param {number} width @param {number} height */
  cell(index, width, height) {
    const cell = this.page.told.cells[index], { row } = this.page.told.thumb, on = index % (row * row);
    const sheet = Math.floor(index / (row * row)), left = this.page.told.cells.length - sheet * row * row;
    const wide = Math.min(row, left), tall = Math.ceil(Math.min(left, row * row) / row);
    return h("button.cell", {
      "data-cell": index, tabIndex: -1, style: `width:${width}px;height:${height}px;`
        + `background-image:url(small/${sheet}.jpg${SERVED ? `?${this.page.told.made}` : ""});background-size:${wide * width}px ${tall * height}px;`
        + `background-position:${-(on % row) * width}px ${-Math.floor(on / row) * height}px`,
      "aria-label": `${cell.a}${cell.s ? `, ${cell.s}` : ""}`, title: cell.a,
    });
  }

  /** @param {HTMLElement} element */
  mark(element) {
    const index = Number(element.dataset.cell), { state, told, choices } = this.page, cell = told.cells[index];
    const by = choices[cell.a]?.by ?? "", pane = state.panes.indexOf(index), note = choices[cell.a]?.note ? " ✎" : "";
    const said = `${SIGNS[cell.s] ? `${SIGNS[cell.s]} ${cell.s}` : ""}`, chose = by ? `${MARKS[by]} ${by}${note}` : note.trim();
    const key = `${said}|${chose}|${pane}|${index === state.at}`;
    if (element.dataset.shown === key) return;
    element.dataset.shown = key;
    element.classList.toggle("focused", index === state.at);
    element.classList.toggle("out", by === "out");
    element.classList.toggle("picked", pane >= 0);
    element.tabIndex = index === state.at ? 0 : -1;
    /** @type {[string, string][]} */
    const signs = [["state", said], ["pick", pane >= 0 ? String(pane + 1) : ""], ["choice", chose]];
    element.replaceChildren(...signs.filter(([, text]) => text).map(([name, text]) => h(`span.${name}`, {}, text)));
    element.setAttribute("aria-pressed", String(pane >= 0));
  }

  /** Move the focus. @param {number} right @param {number} down */
  move(right, down) {
    const { state } = this.page, line = this.lines.findIndex((cells) => cells.includes(state.at));
    if (line < 0) return;
    const column = this.lines[line].indexOf(state.at);
    const next = this.lines[Math.min(Math.max(line + down, 0), this.lines.length - 1)];
    const to = next[Math.min(Math.max(column + right, 0), next.length - 1)];
    this.page.update({ at: to });
    const element = /** @type {HTMLElement | null} */ (this.element.querySelector(`[data-cell="${to}"]`));
    element?.focus({ preventScroll: true });
    element?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }
}
