// keep, maybe, out and a note for each cell: in the browser, and handed on as a file.

/** @typedef {import("./store.js").Choice} Choice */

export const MARKS = /** @type {const} */ ({ keep: "●", maybe: "◐", out: "✕" });

/** The newer of two choices of a cell; see `merged`. @param {Choice | undefined} one @param {Choice | undefined} other */
const newer = (one, other) => (!one || (other && other.at > one.at) ? other : one);

/** Choices of several people or machines: of each cell the newest. @param {...Record<string, Choice>} several
 * @returns {Record<string, Choice>} */
export function merged(...several) {
  /** @type {Record<string, Choice>} */
  const made = {};
  for (const each of several) for (const [cell, choice] of Object.entries(each ?? {})) {
    made[cell] = /** @type {Choice} */ (newer(made[cell], choice));
  }
  return made;
}

/** @param {Record<string, Choice>} choices @param {import("./store.js").Told} told */
export function asTable(choices, told) {
  const cell = (/** @type {unknown} */ text) => `"${String(text).replaceAll('"', '""')}"`;
  const rows = told.cells.filter(({ a }) => choices[a]?.by || choices[a]?.note).map(({ a, at }) => [
    a, ...told.axes.map((axis, k) => axis.entries[at[k]] ?? ""), choices[a].by, choices[a].note, new Date(choices[a].at * 1000).toISOString(),
  ]);
  return [["cell", ...told.axes.map((axis) => axis.name), "choice", "note", "when"], ...rows].map((row) => row.map(cell).join(",")).join("\r\n") + "\r\n";
}

/** Choices in this browser. One database serves every page that is opened from the disk, so each has its key. */
export class Kept {
  /** @param {string} page */
  constructor(page) {
    this.page = page;
    /** @type {Promise<IDBDatabase | null>} */
    this.opened = new Promise((resolve) => {
      try {
        const asked = indexedDB.open("grand-lattice", 1);
        asked.onupgradeneeded = () => asked.result.createObjectStore("choices");
        asked.onsuccess = () => resolve(asked.result);
        asked.onerror = () => resolve(null);
      } catch {
        resolve(null);
      }
    });
  }

  /** @returns {Promise<Record<string, Choice>>} */
  async read() {
    const database = await this.opened;
    if (!database) return {};
    return new Promise((resolve) => {
      const asked = database.transaction("choices").objectStore("choices").get(this.page);
      asked.onsuccess = () => resolve(asked.result ?? {});
      asked.onerror = () => resolve({});
    });
  }

  /** @param {Record<string, Choice>} choices */
  async write(choices) {
    const database = await this.opened;
    database?.transaction("choices", "readwrite").objectStore("choices").put(choices, this.page);
  }
}
