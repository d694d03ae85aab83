// What stands beside the pictures: the cell, why it looks so, a pixel, its light, its grade, figures.

import { MARKS, asTable, merged } from "./choices.js";
import { apartOf } from "./decode.js";
import { h, handOver } from "./dom.js";
import { GRADE_NAMES, neutral, said } from "./grade.js";
import { asRule, isAsLit } from "./light.js";
import { lens } from "./lens_panel.js";
import { facts, inPlan, quoted, slider } from "./parts.js";
import { SIGNS } from "./matrix.js";
import { lasting } from "./served.js";
import { along } from "./state.js";
import { SERVED } from "./store.js";

/** @typedef {import("./main.js").Page} Page */

export const PANELS = ["cell", "why", "pixel", "light", "grade", "lens", "figures", ...(SERVED ? ["run"] : [])];

/** @param {Page} page @returns {HTMLElement} */
export function panel(page) {
  const made = { cell, why, pixel, light, grade, lens, figures, run };
  return made[/** @type {keyof typeof made} */ (page.state.panel)]?.(page) ?? cell(page);
}

/** Who did what when, a line for each worker. @param {Page} page */
function timeline(page) {
  const { told } = page, spans = told.timeline ?? [], workers = [...new Set(spans.map(([worker]) => worker))].sort((a, b) => a - b);
  const whole = Math.max(...spans.map(([, , to]) => to), 0);
  if (!whole) return null;
  const places = new Map(told.cells.map((each, k) => [each.a, k]));
  return h("figure", {}, h("figcaption", {}, `the run by workers, ${lasting(whole)}`), ...workers.map((worker) => h("div.worker", {}, h("span.entry", {}, `worker ${worker}`),
    h("span.track", {}, ...spans.filter(([each]) => each === worker).map(([, from, to, cell]) => h("button.span", {
      style: `left:${(100 * from) / whole}%;width:${Math.max((100 * (to - from)) / whole, 0.3)}%`, title: `${cell}, ${lasting(to - from)}`, "aria-label": `${cell}, ${lasting(to - from)}`,
      tabIndex: -1, onclick: () => page.update({ at: places.get(cell) ?? page.state.at }),
    }))))));
}

/** @param {Page} page */
function cell(page) {
  const { told, state, choices } = page, here = told.cells[told.cells[state.at].past ?? state.at], choice = choices[here.a] ?? { by: "", note: "" };
  const note = /** @type {HTMLTextAreaElement} */ (h("textarea", { rows: 2, value: choice.note, "aria-label": "note on this cell", placeholder: "note …", onchange: () => page.choose(here.a, { note: note.value }) }));
  return h("section", {},
    h("h2", {}, here.a),
    facts([
      ["state", here.s ? `${SIGNS[here.s] ?? ""} ${here.s}` : "done"],
      ...told.axes.map((axis, k) => /** @type {[string, string]} */ ([axis.name, here.at[k] < 0 ? "" : axis.entries[here.at[k]]])),
      ["size", `${here.w} × ${here.h}`], ["samples", here.spp === null ? "" : String(here.spp)],
      ["noise", here.n === null ? "" : `${(100 * here.n).toFixed(1)} %`], ["traced in", here.sec === null ? "" : `${here.sec.toFixed(1)} s`],
      ["exposure", `${here.x >= 0 ? "+" : ""}${+here.x.toFixed(2)} stops`], ["edits", here.word],
      ["files", here.files.length ? h("span", {}, ...here.files.map((file) => SERVED ? h("span.file", {}, file.replace(/^(\.\.\/)+/, "")) : h("a.file", { href: encodeURI(file), target: "_blank", rel: "noopener" }, file.split("/").pop() ?? file))) : ""],
    ]),
    h("div.choices", { role: "group", "aria-label": "choice" }, ...Object.entries(MARKS).map(([by, mark]) => h("button", {
      "aria-pressed": String(choice.by === by), onclick: () => page.choose(here.a, { by: choice.by === by ? "" : /** @type {import("./store.js").Choice["by"]} */ (by) }), title: `${by[0]} on the keyboard`,
    }, `${mark} ${by}`))),
    note,
    ...earlier(page),
    h("div.tools", {},
      h("button", { onclick: () => page.lookAt(state.panes.length ? state.panes : [state.at]) }, state.panes.length > 1 ? `Look at ${state.panes.length} (Enter)` : "Look at it (Enter)"),
      h("button", { onclick: () => page.toggle(state.at), "aria-pressed": String(state.panes.includes(state.at)) }, "Beside others (Space)"),
      h("button", { onclick: () => adopt(page) }, "Adopt …")),
    h("details", {}, h("summary", {}, "Choices of all cells"),
      h("p", {}, counted(page)),
      h("div.tools", {},
        h("button", { onclick: () => handOver(`${told.plan}-choices.json`, JSON.stringify({ plan: told.plan, choices }, null, 1), "application/json") }, "Save as a file"),
        h("button", { onclick: () => handOver(`${told.plan}-choices.csv`, asTable(choices, told), "text/csv") }, "Save as a table"),
        h("label.button", {}, "Take in a file", h("input", { type: "file", accept: ".json", class: "hidden", onchange: (/** @type {Event} */ event) => takeIn(page, event) }))),
      h("p.faint", {}, `glat review --choices ${told.plan}-choices.json takes a saved file in.`)));
}

/** Earlier pictures of a cell, to stand beside the present one. @param {Page} page @returns {HTMLElement[]} */
function earlier(page) {
  const { told, state } = page, here = told.cells[state.at].past ?? state.at, every = told.cells.map((_, k) => k).filter((k) => told.cells[k].past === here);
  if (!every.length) return [];
  return [h("details", { open: told.cells[state.at].past !== undefined }, h("summary", {}, `Earlier pictures (${every.length})`),
    h("div.tools", {}, ...every.map((index) => h("button", { title: told.cells[index].a, onclick: () => page.update({ view: "panes", panes: [here, index], active: 0, at: here, flip: 0 }) }, told.cells[index].word))))];
}

/** @param {Page} page @param {Event} event */
async function takeIn(page, event) {
  const file = /** @type {HTMLInputElement} */ (event.target).files?.[0];
  if (!file) return;
  try {
    const { choices } = JSON.parse(await file.text());
    page.setChoices(merged(page.choices, choices));
  } catch {
    page.say(`${file.name} is no file of choices.`);
  }
}

/** @param {Page} page */
function counted({ told, choices }) {
  const count = (/** @type {string} */ by) => told.cells.filter(({ a, past }) => past === undefined && (choices[a]?.by ?? "") === by).length;
  return `${count("keep")} keep, ${count("maybe")} maybe, ${count("out")} out, ${count("")} open`;
}

/** @param {Page} page */
function adopting({ told, state }) {
  const here = told.cells[state.at];
  return told.axes.filter((axis, k) => axis.entries.length > 1 && here.at[k] >= 0 && !(here.p && k === 0))
    .map((axis) => `glat adopt ${inPlan(told, here)[0]} ${quoted(`${axis.name}=${axis.entries[here.at[told.axes.indexOf(axis)]]}`)}`).join("\n");
}

/** Let axes stay with the entries of a cell: by the server, or as a command to paste. @param {Page} page */
function adopt(page) {
  const { told, state, served } = page, here = told.cells[state.at];
  if (!served) return page.handOn("Keep this entry alone", adopting(page));
  const dialog = /** @type {HTMLDialogElement} */ (h("dialog", { onclose: () => dialog.remove() }, h("h2", {}, "Let an axis stay with one entry"),
    h("p", {}, "The plan is changed; pictures of the other entries stay where they are until glat clean."),
    ...told.axes.filter((axis, k) => axis.entries.length > 1 && here.at[k] >= 0).map((axis) => {
      const entry = axis.entries[here.at[told.axes.indexOf(axis)]];
      return h("button", { onclick: () => { dialog.close(); served.order("adopt", { axes: { [axis.name]: entry } }); } }, `${axis.name} = ${entry}`);
    }), h("form", { method: "dialog" }, h("button", {}, "Leave it"))));
  document.body.append(dialog);
  dialog.showModal();
}

/** Saves that were proofed, the last first. @param {Page} page */
function tries({ served }) {
  const live = served?.live;
  return h("section", {}, h("h2", {}, "Tries"), h("p.faint", {}, "Each save of plan or scene is one; what it changed is proofed again."),
    live?.problem && h("p.wrong", {}, live.problem),
    ...[...(live?.tries ?? [])].reverse().map((each, k) => h("details", { open: k === 0 }, h("summary", {}, `${each.number}  ${new Date(each.at * 1000).toLocaleTimeString()}  ${each.cells.length} cells`),
      each.changed.length ? h("pre", {}, each.changed.join("\n")) : h("p", {}, "as it was when this began"),
      h("p", {}, each.cells.length ? `the first after ${each.seconds[0].toFixed(1)} s, all after ${each.seconds[1].toFixed(1)} s` : "no picture is another"),
      k > 0 && h("button", { onclick: () => served?.order("restore", { try: each.number }) }, "Restore this plan"))));
}

/** @param {Page} page */
function run(page) {
  const { served, told, state } = page, how = served?.run;
  if (!served) return h("section", {}, h("p", {}, "glat review --serve follows a run."));
  if (served.live) return tries(page);
  if (!how) return h("section", {}, h("h2", {}, "Run"), h("p", {}, "Nothing was run yet."));
  const counts = Object.entries(how.counts).filter(([, count]) => count).map(([name, count]) => `${count} ${name}`).join(", ");
  const order = (/** @type {string} */ name, /** @type {string} */ text, /** @type {Record<string, unknown>} */ details = {}) => h("button", { onclick: () => served.order(name, details) }, text);
  const here = told.cells[state.at].a;
  return h("section", {}, h("h2", {}, how.under_way ? (how.held || "Rendering") : `The run is over: ${how.state}`),
    h("progress", { value: how.share, max: 1, "aria-label": "done" }), h("p", {}, counts, how.left !== null && how.under_way ? `; about ${lasting(how.left)} left` : ""),
    how.under_way && h("div.tools", {}, order("pause", "Pause"), order("unpause", "Go on"), order("stop", "Stop after these frames"), order("retry", "Try failed ones again")),
    how.under_way && h("div.tools", {}, h("span.faint", {}, here), order("priority", "First", { at: [here], priority: 100 }), order("drop", "Leave out", { at: [here] })),
    h("label", {}, h("input", { type: "checkbox", checked: served.sound, onchange: (/** @type {Event} */ event) => { served.sound = /** @type {HTMLInputElement} */ (event.target).checked; } }), " a sound at the end"),
    ...how.failures.map((failure) => h("details", {}, h("summary", {}, `${SIGNS.failed} ${failure.cell} · ${failure.frame}`), h("p", {}, failure.problem), failure.log && h("pre", {}, failure.log))));
}

/** @param {Page} page */
function why(page) {
  const { told, state, store } = page, here = told.cells[state.at], other = state.panes.find((index) => index !== state.at);
  const section = h("section", {}, h("h2", {}, other === undefined ? here.a : `${here.a} against ${told.cells[other].a}`), h("p.faint", {}, "…"));
  Promise.all([store.why(state.at), other === undefined ? null : store.why(other)]).then(([rows, against]) => {
    const key = (/** @type {unknown[]} */ row) => `${row[0]} ${row[1]}`;
    const theirs = new Map((against ?? []).map((row) => [key(row), row]));
    const shown = (rows ?? []).filter((row) => !against || String(theirs.get(key(row))?.[3]) !== String(row[3]));
    const mine = new Set((rows ?? []).map(key));
    const gone = (against ?? []).filter((row) => !mine.has(key(row))).map((row) => [row[0], row[1], row[3], row[2], ""]);
    const table = h("table", {}, h("thead", {}, h("tr", {}, ...["what", against ? "there" : "before", "here", "said by"].map((name) => h("th", { scope: "col" }, name)))),
      h("tbody", {}, ...[...shown, ...gone].map((row) => h("tr", {}, h("td", { title: String(row[0]) }, `${row[0] ? `${String(row[0]).split("/").pop()} ` : ""}${row[1]}`),
        h("td", {}, String(against ? theirs.get(key(row))?.[3] ?? row[2] : row[2])), h("td", {}, String(row[3])), h("td.faint", {}, String(row[4]))))));
    section.lastChild?.replaceWith(rows ? (shown.length + gone.length ? table : h("p", {}, "Nothing differs.")) : h("p", {}, "Nothing is known of it."));
  });
  return section;
}

/** @param {Page} page */
function pixel(page) {
  const body = h("div.reading", {}, h("p.faint", {}, "Move over a picture: every pass says its value there."));
  page.readInto = (place) => {
    if (!place) return;
    const { state, told, panes } = page, shown = state.mode === "side" ? (state.locked ? state.panes : [state.panes[place.pane]]) : state.panes.slice(0, 2);
    const readings = shown.map((index) => panes.reading(state.panes.indexOf(index), place.x, place.y));
    if (!readings.length) return;
    const names = [...new Set(readings.flatMap((reading) => reading.rows.map((row) => row.pass)))];
    body.replaceChildren(h("p.place", {}, [...new Set(readings.map(({ px, py }) => `${px}, ${py}`))].join("  ·  ")),
      h("table", {}, h("thead", {}, h("tr", {}, h("th", { scope: "col" }, "pass"), ...shown.map((index) => h("th", { scope: "col", title: told.cells[index].a }, shown.length > 1 ? `${state.panes.indexOf(index) + 1}` : "value")))),
        h("tbody", {}, ...names.map((name) => h("tr", {}, h("th", { scope: "row" }, name), ...readings.map((reading) => h("td", {}, ...(reading.rows.find((row) => row.pass === name)?.text ?? "–").split("  ").map((part) => h("span", {}, part)))))))));
  };
  return h("section", {}, h("h2", {}, "Pixel"), body);
}

/** @param {Page} page */
function light(page) {
  const { told, state, store } = page, index = state.panes[state.active] ?? state.at, here = told.cells[index], frame = here.f[0];
  const lamps = told.passes.filter((pass) => pass.lamp && store.has(here, frame, pass.name)).map((pass) => /** @type {string} */ (pass.lamp));
  const set = (/** @type {string} */ lamp, /** @type {Partial<{strength: number, tint: string}>} */ change) => {
    const [strength, tint] = page.state.mix[lamp] ?? [1, "#ffffff"];
    const next = /** @type {[number, string]} */ ([change.strength ?? strength, change.tint ?? tint]), mix = { ...page.state.mix, [lamp]: next };
    if (isAsLit(next)) delete mix[lamp];
    page.update({ mix }, true);
  };
  const noisy = told.passes.some((pass) => pass.name === "noisy") && store.has(here, frame, "noisy");
  return h("section", {}, h("h2", {}, "Light"),
    ...lamps.map((lamp) => {
      const [strength, tint] = state.mix[lamp] ?? [1, "#ffffff"];
      return h("div.lamp", {}, slider(lamp, { value: strength, min: 0, max: 4, step: 0.01, usual: 1, title: "strength; a double click puts it back" }, (value) => set(lamp, { strength: value })),
        h("input", { type: "color", value: tint, "aria-label": `tint of ${lamp}`, oninput: (/** @type {Event} */ event) => set(lamp, { tint: /** @type {HTMLInputElement} */ (event.target).value }) }));
    }),
    !lamps.length && h("p", {}, "This cell has no light passes. Add ", h("code", {}, "light.*"), " to its passes, and the light of each lamp can be mixed here."),
    noisy && slider("noise left", { value: state.noisy, min: 0, max: 1, step: 0.01, usual: 0, title: "0: denoised, 1: as traced" }, (value) => page.update({ noisy: value }, true)),
    h("div.tools", {}, h("button", { onclick: () => page.update({ mix: {}, noisy: 0 }) }, "As it was"),
      lamps.length > 0 && h("button", { onclick: () => page.handOn("Rules for the plan", asRule(page.state.mix, page.matchOf(here)) || "# nothing is changed", { order: "relight", at: page.likes(here), lamps: page.state.mix }) }, "Hand back …"),
      noisy && h("button", { onclick: () => page.handOn("Denoise like this", `glat run ${inPlan(told, here)[0]} --set denoise=${Math.round(100 * (1 - page.state.noisy))}%`) }, "Noise …")));
}

/** @param {Page} page */
function grade(page) {
  const { told, state } = page, here = told.cells[state.panes[state.active] ?? state.at];
  const near = /** @type {Record<string, [number, number]>} */ ({ exposure: [-4, 4], contrast: [0.25, 2.5], saturation: [0, 2], temperature: [-2, 2], tint: [-2, 2] });
  const command = () => {
    const values = Object.entries(said(page.state.grade)).map(([name, value]) => `${name}=${+value.toFixed(3)}`);
    const [plan, cell] = inPlan(told, here);
    return `glat grade ${values.length ? values.join(" ") : "off"} --plan ${plan} --at ${quoted(cell)}`;
  };
  return h("section", {}, h("h2", {}, "Grade"),
    ...GRADE_NAMES.map((name) => {
      const limit = told.grades[name], [min, max] = near[name] ?? [limit.least, limit.most];
      return slider(name, { value: state.grade[name] ?? here.g[name] ?? neutral(name), min, max, step: 0.01, usual: neutral(name), title: limit.meaning },
        (value) => page.update({ grade: { ...page.state.grade, [name]: value } }, true));
    }),
    h("div.tools", {}, h("button", { onclick: () => page.update({ grade: {} }) }, "As it was"),
      h("button", { onclick: () => page.handOn("Keep this grade", command(), { order: "grade", at: [here.a], values: said(page.state.grade) }) }, "Hand back …")),
    h("p.faint", {}, "Done to scene-linear light, before the display. It is shown on all panes."));
}

/** How much pictures differ from the one before: the mean difference as a share of the mean of both. @param {Page} page
 * @param {number[]} cells @returns {Promise<(number | null)[]>} */
async function differences(page, cells) {
  const pictures = await Promise.all(cells.map((index) => {
    const frame = page.panes.frameOf(index);
    return frame === undefined ? null : page.store.load(page.told.cells[index], frame, "beauty");
  }));
  return pictures.map((picture, k) => (k && picture && pictures[k - 1] ? apartOf(/** @type {import("./decode.js").Picture} */ (pictures[k - 1]), picture) : null));
}

/** @param {Page} page */
function figures(page) {
  const { told, state } = page, axis = told.axes.find((each) => each.name === state.sweep) ?? told.axes[0];
  const choose = h("select", { "aria-label": "along which axis", onchange: (/** @type {Event} */ event) => page.update({ sweep: /** @type {HTMLSelectElement} */ (event.target).value }) },
    ...told.axes.filter((each) => each.entries.length > 1).map((each) => h("option", { value: each.name, selected: each.name === axis?.name }, each.name)));
  const cells = axis ? [...new Set(axis.entries.map((_, entry) => along(told, state.at, axis.name, entry)))] : [state.at];
  const chart = (/** @type {string} */ title, /** @type {(index: number) => number | null} */ value, /** @type {(value: number) => string} */ text) => {
    const values = cells.map((index) => value(index) ?? 0), most = Math.max(...values, 1e-9);
    return h("figure", {}, h("figcaption", {}, title), ...cells.map((index, k) => {
      const entry = axis ? axis.entries[told.cells[index].at[told.axes.indexOf(axis)]] ?? "" : "";
      return h("button.bar-row", { onclick: () => page.update({ at: index }), "aria-label": `${entry} ${text(values[k])}` }, h("span.entry", {}, entry),
        h("span.track", {}, h("span.fill", { style: `width:${(100 * values[k]) / most}%` })), h("span.amount", {}, text(values[k])));
    }));
  };
  const apart = h("div");
  if (cells.length > 1 && cells.length <= 60) differences(page, cells).then((found) => {
    if (found.some((value) => value !== null)) apart.replaceChildren(chart("difference to the one before", (index) => found[cells.indexOf(index)], (value) => `${(100 * value).toFixed(1)} %`));
  });
  const present = told.cells.filter((each) => each.past === undefined), total = present.reduce((sum, each) => sum + (each.sec ?? 0) * each.f.length, 0);
  return h("section", {}, h("h2", {}, "Figures"), h("label", {}, "along ", choose),
    chart("seconds of a trace", (index) => told.cells[index].sec, (value) => `${value.toFixed(1)} s`),
    chart("noise", (index) => told.cells[index].n, (value) => `${(100 * value).toFixed(1)} %`),
    apart,
    timeline(page),
    facts([["all cells", `${told.count}, ${present.filter((each) => each.f.length).length} with pictures`], ["traced in", `${total.toFixed(0)} s of workers`]]));
}
