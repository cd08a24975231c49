// Puts what the server rendered in the place of what is there, changing only what differs: focus, caret and scrolling
// stay where they are.

import { Idiomorph } from "../../vendor/idiomorph/idiomorph.esm.js";

export function replaceFragment(place, html) {
  Idiomorph.morph(place, html, { morphStyle: "innerHTML", ignoreActiveValue: true, restoreFocus: true });
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
