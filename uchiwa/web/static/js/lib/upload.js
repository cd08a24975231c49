// Sends files in pieces; one that broke off goes on where it stopped when the same file is chosen again.

import { element } from "./elements.js";
import { csrf, errorOf } from "./http.js";

const PIECE = 1_048_576;
const TRIES = 4;
const WAIT_MS = 600;
const BROKE_OFF = "The connection broke off. Nothing is lost: choose the same file again and it goes on.";

async function send(address, options, brokeOff) {
  const headers = { "X-Fragment": "yes", "X-CSRF": csrf(), "Content-Type": "application/octet-stream" };
  for (let tries = 1; tries <= TRIES; tries++) {
    const answer = await fetch(address, { ...options, headers }).catch(() => null);
    if (answer?.ok) return answer.json();
    if (answer && (answer.status < 500 || tries === TRIES)) throw await errorOf(answer);
    await new Promise((resolve) => setTimeout(resolve, WAIT_MS * tries));
  }
  throw new Error(brokeOff);
}

/** Sends one file; gives what the server says of it, empty if nothing is wrong. */
export async function sendFile(base, file, progress, brokeOff) {
  const query = { name: file.name, size: file.size, changed: file.lastModified };
  let at = (await send(`${base}/pieces?${new URLSearchParams(query)}`, {}, brokeOff)).received;
  for (;;) {
    const body = file.slice(at, at + PIECE - (at % PIECE));
    const address = `${base}/pieces?${new URLSearchParams({ ...query, start: at })}`;
    const answer = await send(address, { method: "POST", body }, brokeOff);
    at = answer.received;
    progress(file.size ? (100 * at) / file.size : 100);
    if (answer.done) return answer.said;
  }
}

/** Sends files one after the other, each on a line of `list`; gives whether all were taken. */
export async function sendFiles(base, files, list, brokeOff = BROKE_OFF) {
  let fine = true;
  for (const file of files) {
    const line = element("li");
    const bar = element("progress");
    Object.assign(bar, { max: 100, value: 0 });
    line.append(file.name, bar);
    list.append(line);
    let said = "";
    try {
      const progress = (share) => {
        bar.value = share;
      };
      said = await sendFile(base, file, progress, brokeOff);
    } catch (error) {
      line.className = "plain-words";
      said = `${file.name}: ${error.message}`;
    }
    if (said) {
      fine = false;
      line.textContent = said;
    } else line.remove();
  }
  return fine;
}
