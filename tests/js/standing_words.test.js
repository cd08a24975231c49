import assert from "node:assert/strict";
import { test } from "node:test";

import { standingWords } from "../../uchiwa/web/static/js/live/standing_words.js";

const words = (...args) => standingWords(...args)[0];
const running = { running: true, log: "recording" };

test("before anything has come it waits for the first rows, and for the next where some were there", () => {
  assert.equal(words(running, true, 0), "waiting for the first rows");
  assert.equal(words(running, true, 0, true), "waiting for the next rows");
});

test("rows that have just come are being recorded, and silence is told by its seconds", () => {
  assert.equal(words(running, true, performance.now()), "being recorded");
  assert.match(words(running, true, performance.now() - 12_000), /^silent for 12 s; nothing is lost/);
});

test("a page without a link says so, whatever it has heard", () => {
  assert.match(words(running, false, performance.now()), /no link just now/);
});

test("a session that is over is being read, and then an ordinary log", () => {
  assert.equal(words({ running: false, log: "stored" }, true, 0), "ended, being read");
  assert.deepEqual(standingWords({ running: false, log: "ready" }, false, 0), [
    "ended, an ordinary log now",
    "is-fine",
  ]);
});
