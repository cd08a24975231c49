// How a session stands, in words, with the dot that goes before them.

const SILENT_AFTER_MS = 3000;

/**
 * @param heardAt when rows came last, by `performance.now()`; 0 for never since the page was opened
 * @param hasRows whether some had come before
 */
export function standingWords(standing, linked, heardAt, hasRows = false) {
  const quiet = performance.now() - heardAt;
  if (standing && !standing.running)
    return standing.log === "ready" ? ["ended, an ordinary log now", "is-fine"] : ["ended, being read", "is-busy"];
  if (!linked) return ["this page has no link just now, and tries again", "is-needs"];
  if (!heardAt) return [`waiting for the ${hasRows ? "next" : "first"} rows`, "is-busy"];
  if (quiet > SILENT_AFTER_MS) {
    const seconds = Math.round(quiet / 1000);
    return [`silent for ${seconds} s; nothing is lost, it goes on when the link is back`, "is-needs"];
  }
  return ["being recorded", "is-busy"];
}
