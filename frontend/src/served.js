// What a page does that comes from a server: it follows the run, keeps choices beside it, and hands it orders.

/** @typedef {import("./main.js").Page} Page */
/** @typedef {{cell: string, frame: number, problem: string, log: string}} Failure */
/**
 * @typedef {object} RunState
 * @property {boolean} under_way
 * @property {string} state
 * @property {string} held why no frame begins for now
 * @property {Record<string, number>} counts
 * @property {number} share 0..1
 * @property {number | null} left seconds
 * @property {number} workers
 * @property {Failure[]} failures
 */

/** @param {string} to @param {unknown} told @returns {Promise<any>} */
async function post(to, told) {
  const answer = await fetch(to, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(told) });
  const said = await answer.json().catch(() => ({ problem: answer.statusText }));
  if (!answer.ok) throw new Error([said.problem, said.cure].filter(Boolean).join(" "));
  return said["came of it"];
}

export class Served {
  /** @param {Page} page */
  constructor(page) {
    this.page = page;
    /** @type {RunState | null} */
    this.run = null;
    this.sound = false;
    /** @type {{tries: {number: number, at: number, changed: string[], cells: string[], seconds: [number, number]}[], problem: string} | null} */
    this.live = null;
    this.shown = "";
    const events = new EventSource("events");
    events.onmessage = (message) => this.heard(JSON.parse(message.data));
    events.onerror = () => page.say("The server does not answer; trying again …");
  }

  /** @param {any} event */
  async heard(event) {
    const was = this.run;
    if (event.kind === "begin" && event.run) this.run = event.run;
    if (event.kind === "begin" && event.live) this.live = event.live;
    if (event.kind === "live") this.live = event;
    if (event.kind === "run") this.run = event;
    if (event.kind === "cells" && (await this.page.store.renew())) this.page.renewed();
    else this.page.heard();
    if (was?.under_way && this.run && !this.run.under_way && this.sound) this.ring();
  }

  /** Two short tones: the run is over. */
  ring() {
    const audio = new AudioContext();
    [660, 880].forEach((pitch, k) => {
      const tone = audio.createOscillator(), loud = audio.createGain();
      tone.frequency.value = pitch;
      loud.gain.value = 0.1;
      tone.connect(loud).connect(audio.destination);
      tone.start(audio.currentTime + 0.25 * k);
      tone.stop(audio.currentTime + 0.25 * k + 0.2);
    });
  }

  /** Tell which cells are on show: they are proofed first. @param {string[]} cells */
  showing(cells) {
    const key = cells.join("\n");
    if (!this.live || key === this.shown) return;
    this.shown = key;
    post("order", { order: "showing", at: cells }).catch(() => {});
  }

  /** @param {Record<string, import("./store.js").Choice>} choices */
  async choose(choices) {
    try {
      return await post("choices", choices);
    } catch (problem) {
      this.page.say(`Choices are not kept: ${/** @type {Error} */ (problem).message}`);
      return null;
    }
  }

  /** @param {string} order @param {Record<string, unknown>} [details] */
  async order(order, details = {}) {
    this.page.say("…");
    try {
      this.page.say(String(await post("order", { order, ...details })));
    } catch (problem) {
      this.page.say(/** @type {Error} */ (problem).message);
    }
  }
}

/** @param {number} seconds */
export function lasting(seconds) {
  if (seconds < 90) return `${Math.round(seconds)} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}
