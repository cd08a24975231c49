// Puts what the server rendered in the place of what is there, changing only what differs: focus, caret and scrolling
// stay where they are.

import { Idiomorph } from "../../vendor/idiomorph/idiomorph.esm.js";

export function replaceFragment(place, html) {
  Idiomorph.morph(place, html, {
    morphStyle: "innerHTML",
    ignoreActiveValue: true,
    restoreFocus: true,
    callbacks: { beforeNodeMorphed: (old, fresh) => !redrawn(old, fresh) },
  });
}

/**
 * A picture has other shapes in the place of all it had: to match hundreds of them one by one takes over a second, and so
 * it does to have Alpine find out what was put where.
 */
function redrawn(old, fresh) {
  if (old.localName !== "svg" || fresh.localName !== "svg") return false;
  for (const name of old.getAttributeNames()) if (!fresh.hasAttribute(name)) old.removeAttribute(name);
  for (const { name, value } of fresh.attributes) {
    if (old.getAttribute(name) !== value) old.setAttribute(name, value);
  }
  Alpine.mutateDom(() => {
    for (const shape of old.children) Alpine.destroyTree(shape);
    old.replaceChildren(...fresh.childNodes);
  });
  for (const shape of old.children) Alpine.initTree(shape);
  return true;
}

/** Lets only the newest of several requests through: `latest(run)` gives what `run` gave, or undefined if overtaken. */
export function latestOnly(wait = 0) {
  let newest = 0;
  return async (run) => {
    newest += 1;
    const mine = newest;
    if (wait) await new Promise((resolve) => setTimeout(resolve, wait));
    if (mine !== newest) return undefined;
    const result = await run();
    return mine === newest ? result : undefined;
  };
}
