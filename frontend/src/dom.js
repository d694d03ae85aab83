// Elements in a line each.

/**
 * @param {string} tag such as "button.quiet"
 * @param {Record<string, any>} [given] attributes; on… are listeners
 * @param {...(Node | string | null | undefined | false)} children
 * @returns {HTMLElement}
 */
export function h(tag, given = {}, ...children) {
  const [name, ...classes] = tag.split("."), element = document.createElement(name);
  if (classes.length) element.className = classes.join(" ");
  for (const [key, value] of Object.entries(given)) {
    if (value === undefined || value === null || value === false) continue;
    if (key.startsWith("on")) element.addEventListener(key.slice(2), value);
    else if (key in element && key !== "list" && !key.startsWith("aria")) /** @type {any} */ (element)[key] = value;
    else element.setAttribute(key, value === true ? "" : String(value));
  }
  element.append(.../** @type {(Node | string)[]} */ (children.filter((child) => child !== null && child !== undefined && child !== false)));
  return element;
}

/** Have something done once before the next picture of the screen. @param {() => void} work */
export function soon(work) {
  let asked = false;
  return () => {
    if (asked) return;
    asked = true;
    requestAnimationFrame(() => { asked = false; work(); });
  };
}

/** Hand a text to the person as a file. @param {string} name @param {string} text @param {string} kind */
export function handOver(name, text, kind) {
  const link = h("a", { href: URL.createObjectURL(new Blob([text], { type: kind })), download: name });
  link.click();
  setTimeout(() => URL.revokeObjectURL(/** @type {HTMLAnchorElement} */ (link).href), 10000);
}
