import assert from "node:assert/strict";
import { test } from "node:test";
import { GridSelection } from "../../uchiwa/web/static/js/lib/grid_selection.js";

const of = (i, j) => new GridSelection(5, 4, [i, j]);

test("arrows step and stop at the edges", () => {
  const grid = of(0, 3);
  assert.equal(grid.press({ key: "ArrowLeft" }), true);
  assert.deepEqual(grid.active, [0, 3]);
  grid.press({ key: "ArrowUp" });
  assert.deepEqual(grid.active, [0, 3]);
  grid.press({ key: "ArrowRight" });
  grid.press({ key: "ArrowDown" });
  assert.deepEqual(grid.active, [1, 2]);
  assert.equal(grid.count, 1);
});

test("up is up: the row above has the larger j", () => {
  const grid = of(2, 1);
  grid.press({ key: "ArrowUp" });
  assert.deepEqual(grid.active, [2, 2]);
});

test("Shift extends from where it began, also back over itself", () => {
  const grid = of(2, 2);
  grid.press({ key: "ArrowRight", shiftKey: true });
  grid.press({ key: "ArrowDown", shiftKey: true });
  assert.equal(grid.text, "2.1 3.1 2.2 3.2");
  grid.press({ key: "ArrowLeft", shiftKey: true });
  grid.press({ key: "ArrowLeft", shiftKey: true });
  assert.equal(grid.text, "1.1 2.1 1.2 2.2");
  grid.press({ key: "ArrowUp" });
  assert.equal(grid.text, "1.2");
});

test("Ctrl and arrows go to the edge, with Shift they take everything on the way", () => {
  const grid = of(1, 1);
  grid.press({ key: "ArrowRight", ctrlKey: true });
  assert.deepEqual(grid.active, [4, 1]);
  grid.press({ key: "ArrowUp", ctrlKey: true, shiftKey: true });
  assert.deepEqual(grid.bounds, { left: 4, right: 4, bottom: 1, top: 3 });
  grid.press({ key: "ArrowLeft", metaKey: true, shiftKey: true });
  assert.equal(grid.count, 15);
});

test("Home and End, and the corners with Ctrl", () => {
  const grid = of(2, 2);
  grid.press({ key: "End" });
  assert.deepEqual(grid.active, [4, 2]);
  grid.press({ key: "Home", ctrlKey: true });
  assert.deepEqual(grid.active, [0, 3]);
  grid.press({ key: "End", ctrlKey: true, shiftKey: true });
  assert.equal(grid.count, 20);
});

test("all, and letting go", () => {
  const grid = of(3, 0);
  grid.press({ key: "a", ctrlKey: true });
  assert.equal(grid.count, 20);
  grid.press({ key: "Escape" });
  assert.equal(grid.text, "3.0");
});

test("other keys are left alone", () => {
  const grid = of(1, 1);
  for (const event of [
    { key: "a" },
    { key: "p" },
    { key: "Enter" },
    { key: "ArrowLeft", altKey: true },
    { key: "Shift" },
  ]) {
    assert.equal(grid.press(event), false, event.key);
  }
  assert.deepEqual(grid.active, [1, 1]);
});

test("cells that are given become the rectangle around them", () => {
  const grid = of(0, 0);
  grid.chooseCells([
    [1, 3],
    [3, 2],
  ]);
  assert.deepEqual(grid.bounds, { left: 1, right: 3, bottom: 2, top: 3 });
  assert.equal(grid.has(2, 2), true);
  assert.equal(grid.has(0, 2), false);
  grid.chooseCells([]);
  assert.equal(grid.count, 6);
});

test("a cell outside is held inside", () => {
  assert.deepEqual(new GridSelection(2, 2, [9, -4]).active, [1, 0]);
});
