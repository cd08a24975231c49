import assert from "node:assert/strict";
import { test } from "node:test";
import { clockText, countText, numberText, plural, unitText } from "../../uchiwa/web/static/js/lib/figures.js";

test("clock", () => {
  assert.equal(clockText(0), "0:00");
  assert.equal(clockText(65.4), "1:05");
  assert.equal(clockText(59.96, 1), "1:00.0");
  assert.equal(clockText(3661.25, 2), "1:01:01.25");
  assert.equal(clockText(-3.5, 1), "−0:03.5");
});

test("numbers", () => {
  assert.equal(numberText(-0.04, 1), "0.0");
  assert.equal(numberText(-12.34, 1), "−12.3");
  assert.equal(numberText(null, 1), "–");
  assert.equal(numberText(Number.NaN, 2), "–");
});

test("units and counts", () => {
  assert.equal(unitText("degC"), "°C");
  assert.equal(unitText("1"), "");
  assert.equal(unitText("kPa"), "kPa");
  assert.equal(countText(1234567), "1 234 567");
  assert.equal(plural(1, "moment"), "1 moment");
  assert.equal(plural(0, "moment"), "0 moments");
});
