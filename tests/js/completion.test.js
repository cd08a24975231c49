import assert from "node:assert/strict";
import { test } from "node:test";
import { completed, typedWord } from "../../uchiwa/web/static/js/lib/words.js";

test("the name before the caret is asked for", () => {
  assert.equal(typedWord("1 + engine_sp > 3", 13, false), "engine_sp");
  assert.equal(typedWord("1 + ", 4, false), "");
  assert.equal(typedWord("  coolant ", 3, true), "coolant");
});

test("an item takes the name's place", () => {
  assert.deepEqual(completed("a + eng > 3", 7, { key: "engine_speed" }), {
    text: "a + engine_speed > 3",
    selection: [16, 16],
  });
});

test("of a function the caret goes between its brackets", () => {
  assert.deepEqual(completed("sm", 2, { key: "smooth", write: "smooth(x, 0.3)" }), {
    text: "smooth(x, 0.3)",
    selection: [7, 13],
  });
});
