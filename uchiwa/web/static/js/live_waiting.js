// A page on which nothing is being recorded: a session that begins is opened, or offered where an older one is looked at.

import { fetchJson } from "./lib/http.js";

const EVERY_MS = 2000;
const place = document.querySelector("[data-waiting]");

const look = async () => {
  const { waiting, known } = place.dataset;
  try {
    const found = document.hidden ? null : (await fetchJson(`${waiting}/now`)).session;
    if (found && !known) return location.assign(waiting);
    place.hidden = Boolean(known) && (!found || String(found) === known);
  } catch {
    // The next look may reach the server again.
  }
  return setTimeout(look, EVERY_MS);
};
if (place) setTimeout(look, EVERY_MS);
