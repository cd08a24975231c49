// Which cells of a grid are chosen, and what keys do to them: one behaviour for every grid. No page is touched here.
//
// Cells are [i, j] as in a table: i along x from the left, j along y from the bottom.

const STEPS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };

export class GridSelection {
  /** A grid of `columns` by `rows` cells, of which [i, j] is chosen. */
  constructor(columns, rows, [i, j] = [0, rows - 1]) {
    this.columns = columns;
    this.rows = rows;
    this.active = this.#inside([i, j]);
    this.anchor = this.active;
    this.before = null;
  }

  #inside([i, j]) {
    return [Math.min(Math.max(i, 0), this.columns - 1), Math.min(Math.max(j, 0), this.rows - 1)];
  }

  /** Left, right, bottom and top of what is chosen. */
  get bounds() {
    const [a, b] = this.anchor;
    const [i, j] = this.active;
    return { left: Math.min(a, i), right: Math.max(a, i), bottom: Math.min(b, j), top: Math.max(b, j) };
  }

  /** The chosen cells, row by row from the bottom. */
  get cells() {
    const { left, right, bottom, top } = this.bounds;
    const found = [];
    for (let j = bottom; j <= top; j++) for (let i = left; i <= right; i++) found.push([i, j]);
    return found;
  }

  get count() {
    const { left, right, bottom, top } = this.bounds;
    return (right - left + 1) * (top - bottom + 1);
  }

  /** As the server reads them: "i.j i.j". */
  get text() {
    return this.cells.map(([i, j]) => `${i}.${j}`).join(" ");
  }

  has(i, j) {
    const { left, right, bottom, top } = this.bounds;
    return i >= left && i <= right && j >= bottom && j <= top;
  }

  choose(cell, extend = false) {
    this.before = null;
    this.active = this.#inside(cell);
    if (!extend) this.anchor = this.active;
  }

  /** The rectangle around some cells. */
  chooseCells(cells) {
    if (!cells.length) return;
    const across = cells.map(([i]) => i);
    const up = cells.map(([, j]) => j);
    this.anchor = this.#inside([Math.min(...across), Math.max(...up)]);
    this.active = this.#inside([Math.max(...across), Math.min(...up)]);
  }

  chooseAll() {
    this.before = this.active;
    this.anchor = [0, 0];
    this.active = [this.columns - 1, this.rows - 1];
  }

  /**
   * What a key does: arrows step, with Ctrl they go to the edge; Home and End go along the row, with Ctrl to the corners;
   * Shift extends; Ctrl A chooses all; Escape lets go of all but one. Gives whether the key was one of these.
   */
  press({ key, shiftKey = false, ctrlKey = false, metaKey = false, altKey = false }) {
    if (altKey) return false;
    const command = ctrlKey || metaKey;
    if (key.toLowerCase() === "a" && command) this.chooseAll();
    else if (key === "Escape") this.choose(this.before ?? this.active);
    else {
      const to = this.#target(key, command);
      if (!to) return false;
      this.choose(to, shiftKey);
    }
    return true;
  }

  #target(key, command) {
    const [i, j] = this.active;
    if (STEPS[key]) {
      const [across, up] = STEPS[key];
      return command ? [i + across * this.columns, j + up * this.rows] : [i + across, j + up];
    }
    if (key === "Home") return [0, command ? this.rows - 1 : j];
    if (key === "End") return [this.columns - 1, command ? 0 : j];
    return null;
  }
}
