// All cells as a grid of small pictures: one axis down, one across, the others side by side within a place.
// Only what is in sight, and a little around it, stands in the document.

import { h, soon } from "./dom.js";
import { MARKS } from "./choices.js";
import { Relit } from "./relit.js";
import { OTHERS, chosen } from "./state.js";
import { SERVED } from "./store.js";

/** @typedef {import("./store.js").Cell} Cell */
/** @typedef {import("./main.js").Page} Page */
/** @typedef {{at: number, long: number}} Span where a row or a column begins, and how long it is, pixels */
/** @typedef {Span & {name: string, cells: number[][]}} Row cells of each column */
/** @typedef {Span & {name: string}} Column */

/** Signs of what is wrong, so that no state is told by colour alone. @type {Record<string, string>} */
export const SIGNS = {
  failed: "✗", "out of date": "↻", "not rendered": "□", "frames missing": "▤", unfinished: "…",
};
const GAP = 6;
const BESIDE = 4; // cells side by side within a place at most

/** The first and the last of some spans that are seen between two places. @param {Span[]} spans @param {number} from
 * @param {number} to @returns {[number, number]} the last is beyond */
export function within(spans, from, to) {
  let low = 0, high = spans.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (spans[middle].at + spans[middle].long > from) high = middle;
    else low = middle + 1;
  }
  let end = low;
  while (end < spans.length && spans[end].at < to) end++;
  return [low, end];
}

/** Spans one after the other. @template T @param {T[]} parts @param {(part: T) => number} long
 * @returns {(T & Span)[]} */
function laidOut(parts, long) {
  let at = 0;
  return parts.map((part) => {
    const span = { ...part, at, long: long(part) };
    at += span.long;
    return span;
  });
}

export class Matrix {
  /** @param {Page} page */
  constructor(page) {
    this.page = page;
    this.head = h("div.row.head", { role: "row" });
    this.body = h("div.body", { role: "rowgroup" });
    this.element = h("div.matrix", { role: "grid", "aria-label": "cells" }, this.head, this.body);
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
    this.element.addEventListener("scroll", () => this.fill(), { passive: true });
    const resized = soon(() => this.draw());
    new ResizeObserver(resized).observe(this.element);
    this.drawn = "";
    /** @type {Row[]} */
    this.rows = [];
    /** @type {Column[]} */
    this.columns = [];
    this.named = 0;
    /** Rows that stand in the document: their element, and that of each column. @type {Map<number, {row: HTMLElement, places: Map<number, HTMLElement>}>} */
    this.there = new Map();
    this.relit = new Relit(page);
  }

  /** @param {Event} event */
  indexOf(event) {
    const cell = /** @type {HTMLElement} */ (event.target).closest?.("[data-cell]");
    return cell ? Number(/** @type {HTMLElement} */ (cell).dataset.cell) : -1;
  }

  draw() {
    const { state } = this.page, wraps = state.cols ? 0 : this.element.clientWidth;
    const shape = JSON.stringify([state.rows, state.cols, state.only, state.search, state.choice, state.size, wraps]);
    if (shape !== this.drawn) {
      this.drawn = shape;
      this.build();
    }
    this.fill();
    for (const element of this.cells()) this.mark(element);
    this.relit.draw(this.cells());
  }

  /** Elements of cells that stand in the document. @returns {HTMLElement[]} */
  cells() {
    return /** @type {HTMLElement[]} */ ([...this.body.querySelectorAll("[data-cell]")]);
  }

  /** What stands where. */
  build() {
    const { state, told, choices } = this.page, indices = chosen(told, state, choices);
    const place = (/** @type {string} */ name) => told.axes.findIndex((axis) => axis.name === name);
    const across = place(state.cols);
    const down = state.rows === OTHERS ? told.axes.map((_, k) => k).filter((k) => k !== across && told.axes[k].entries.length > 1) : [place(state.rows)].filter((k) => k >= 0);
    const text = (/** @type {number} */ axis, /** @type {number} */ entry) => (entry < 0 ? "added" : told.axes[axis].entries[entry]);
    const [width, height] = this.size();
    this.named = down.length ? (this.element.clientWidth < 600 ? 84 : 116) : 0;
    /** Cells of each row, by the entries it is of. @type {Map<string, number[]>} */
    const lines = new Map();
    for (const index of indices) {
      const row = down.map((k) => told.cells[index].at[k]).join(), line = lines.get(row);
      if (line) line.push(index);
      else lines.set(row, [index]);
    }
    const order = (/** @type {string} */ one, /** @type {string} */ other) => {
      const [a, b] = [one.split(",").map(Number), other.split(",").map(Number)], k = a.findIndex((entry, n) => entry !== b[n]);
      return k < 0 ? 0 : a[k] - b[k];
    };
    const rows = [...lines.keys()].sort(order).map((row) => ({
      name: down.length ? row.split(",").map((entry, k) => text(down[k], Number(entry))).join(" · ") : "", all: lines.get(row) ?? [],
    }));
    const entries = across < 0 ? [] : [...new Set(indices.map((index) => told.cells[index].at[across]))].sort((a, b) => a - b);
    const laid = across < 0 ? this.broken(rows, width) : rows.map(({ name, all }) => {
      const cells = entries.map(() => /** @type {number[]} */ ([])), column = new Map(entries.map((entry, k) => [entry, k]));
      for (const index of all) cells[/** @type {number} */ (column.get(told.cells[index].at[across]))].push(index);
      return { name, cells };
    });
    const most = Array.from({ length: laid[0]?.cells.length ?? 0 }, (_, k) => Math.min(BESIDE, laid.reduce((n, { cells }) => Math.max(n, cells[k].length), 1)));
    this.columns = laidOut(most.map((_, k) => ({ name: across < 0 ? "" : text(across, entries[k]), wide: most[k] * (width + GAP) })), ({ wide }) => wide);
    this.rows = laidOut(laid, ({ cells }) => Math.max(1, ...cells.map((each, k) => Math.ceil(each.length / most[k]))) * (height + GAP));
    const end = (/** @type {Span[]} */ spans) => (spans.length ? spans[spans.length - 1].at + spans[spans.length - 1].long : 0);
    this.there.clear();
    this.element.style.setProperty("--named", `${this.named}px`);
    this.element.style.setProperty("--wide", `${this.named + end(this.columns)}px`);
    this.element.setAttribute("aria-rowcount", String(this.rows.length + 1));
    this.body.style.height = `${end(this.rows)}px`;
    this.body.replaceChildren();
    this.head.hidden = across < 0;
    const axes = `${down.map((k) => told.axes[k].name).join(" · ")} ↓  ${state.cols} →`;
    this.head.replaceChildren(...(this.named ? [h("div.corner", { role: "columnheader", title: axes }, h("span.axis", {}, axes))] : []));
    /** @type {Map<number, HTMLElement>} */
    this.heads = new Map();
    if (!rows.length) this.body.append(h("p.empty", { role: "row" }, h("span", { role: "gridcell" }, "No cell is left. Clear the search or the filters.")));
    if (indices.length && !indices.includes(state.at)) this.page.update({ at: indices[0] });
  }

  /** Rows of cells broken into lines that are as long as there is room. @param {{name: string, all: number[]}[]} rows @param {number} width */
  broken(rows, width) {
    const across = Math.max(1, Math.floor(((this.element.clientWidth || 900) - this.named - 16) / (width + GAP)));
    return rows.flatMap(({ name, all }) => Array.from({ length: Math.ceil(all.length / across) }, (_, line) => ({
      name: line ? "" : name, cells: Array.from({ length: across }, (_, k) => all.slice(line * across + k, line * across + k + 1)),
    })));
  }

  /** Put into the document what is in sight, and take out what is far. */
  fill() {
    const { scrollTop, scrollLeft, clientWidth, clientHeight } = this.element, [width, height] = this.size();
    const [top, end] = within(this.rows, scrollTop - clientHeight / 2, scrollTop + 1.5 * clientHeight);
    const [left, right] = within(this.columns, scrollLeft - clientWidth / 4, scrollLeft + 1.25 * clientWidth);
    for (const [k, { row }] of this.there) if (k < top || k >= end) {
      row.remove();
      this.there.delete(k);
    }
    const made = /** @type {HTMLElement[]} */ ([]);
    for (let k = top; k < end; k++) {
      const { at, long, name, cells } = this.rows[k];
      let known = this.there.get(k);
      if (!known) {
        const row = h("div.row", { role: "row", "aria-rowindex": k + 2, style: `top:${at}px;height:${long}px` }, ...(this.named ? [h("div.name", { role: "rowheader", title: name }, name)] : []));
        known = { row, places: new Map() };
        this.there.set(k, known);
        let next = k + 1;
        while (next < end && !this.there.has(next)) next++;
        this.body.insertBefore(row, this.there.get(next)?.row ?? null);
      }
      const { row, places } = known;
      for (const [column, place] of places) if (column < left || column >= right) {
        place.remove();
        places.delete(column);
      }
      for (let column = left; column < right; column++) if (!places.has(column)) {
        const new_ones = cells[column].map((index) => this.cell(index, width, height)), span = this.columns[column];
        const place = h("div.place", { role: "gridcell", "aria-colindex": column + 1, style: `left:${span.at + this.named}px;width:${span.long}px` }, ...new_ones);
        places.set(column, place);
        row.append(place);
        made.push(...new_ones);
      }
    }
    for (const [column, element] of this.heads ?? []) if (column < left || column >= right) {
      element.remove();
      this.heads?.delete(column);
    }
    for (let column = left; column < right; column++) if (this.heads && !this.heads.has(column)) {
      const { at, long, name } = this.columns[column], element = h("div.column", { role: "columnheader", title: name, style: `left:${at + this.named}px;width:${long}px` }, name);
      this.heads.set(column, element);
      this.head.append(element);
    }
    for (const element of made) this.mark(element);
    if (made.length) this.relit.draw(made);
  }

  /** @returns {[number, number]} */
  size() {
    const [width, height] = this.page.told.thumb.size, by = this.page.state.size / width;
    return [Math.round(width * by), Math.round(height * by)];
  }

  /** @param {number} index @param {number} width @param {number} height */
  cell(index, width, height) {
    const cell = this.page.told.cells[index], { row } = this.page.told.thumb, on = index % (row * row);
    const sheet = Math.floor(index / (row * row)), left = this.page.told.count - sheet * row * row;
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
    for (const old of element.querySelectorAll("span")) old.remove();
    element.append(...signs.filter(([, text]) => text).map(([name, text]) => h(`span.${name}`, {}, text)));
    element.setAttribute("aria-pressed", String(pane >= 0));
  }

  /** Move the focus. @param {number} right @param {number} down */
  move(right, down) {
    const { state } = this.page, row = this.rows.findIndex(({ cells }) => cells.some((each) => each.includes(state.at)));
    if (row < 0) return;
    const line = (/** @type {number} */ k) => this.rows[k].cells.flat(), column = line(row).indexOf(state.at);
    const next = line(Math.min(Math.max(row + down, 0), this.rows.length - 1)), to = next[Math.min(Math.max(column + right, 0), next.length - 1)];
    this.page.update({ at: to });
    this.focus(to);
  }

  /** Have a cell in sight, and keys go to it. @param {number} index */
  focus(index) {
    const row = this.rows.find(({ cells }) => cells.some((each) => each.includes(index))), column = this.columns[row?.cells.findIndex((each) => each.includes(index)) ?? -1];
    if (!row || !column) return;
    const { scrollTop, scrollLeft, clientWidth, clientHeight } = this.element, room = clientHeight - this.head.offsetHeight - GAP;
    if (row.at < scrollTop) this.element.scrollTop = row.at;
    else if (row.at + row.long > scrollTop + room) this.element.scrollTop = row.at + row.long - room;
    if (column.at < scrollLeft) this.element.scrollLeft = column.at;
    else if (column.at + column.long > scrollLeft + clientWidth - this.named - 16) this.element.scrollLeft = column.at + column.long - clientWidth + this.named + 16;
    this.fill();
    /** @type {HTMLElement | null} */ (this.body.querySelector(`[data-cell="${index}"]`))?.focus({ preventScroll: true });
  }
}
