// A table on the page whose cells can be chosen with mouse and keys, and copied as text for any spreadsheet.

import { GridSelection } from "./grid_selection.js";

const EDGES = [
  ["edge-t", 0, 1],
  ["edge-r", 1, 0],
  ["edge-b", 0, -1],
  ["edge-l", -1, 0],
];
const place = (cell) => [Number(cell.dataset.i), Number(cell.dataset.j)];

export class SelectableGrid {
  /**
   * @param on.chosen(selection) after every change of what is chosen
   * @param on.key(event) keys that are not the selection's own; true if it took the key
   * @param on.pin() the key P
   * @param on.copied(count) after copying
   * @param on.letGo() Escape when a single cell is chosen
   */
  constructor(on = {}) {
    this.on = on;
    this.table = null;
    this.selection = null;
    this.dragging = false;
    this.byPlace = new Map();
    this.marked = [];
    this.active = null;
    this.marks = new Map();
    window.addEventListener("pointerup", () => {
      this.dragging = false;
    });
    document.addEventListener("copy", (event) => this.copy(event));
  }

  /** Takes over a table; called again when the server has drawn it anew. What was chosen stays chosen. */
  attach(table, cell) {
    const drawnAnew = table !== this.table;
    this.table = table;
    this.byPlace = new Map();
    this.marked = [];
    this.marks = new Map();
    this.active = null;
    if (!table) return;
    for (const td of table.querySelectorAll("td[data-i]")) this.byPlace.set(`${td.dataset.i}.${td.dataset.j}`, td);
    const rows = table.tBodies[0].rows;
    const columns = rows[0].querySelectorAll("td[data-i]").length;
    const before = this.selection;
    this.selection = new GridSelection(columns, rows.length, cell || before?.anchor);
    if (before && !cell) this.selection.choose(before.active, true);
    if (drawnAnew) this.#listen(table);
    this.mark();
  }

  #listen(table) {
    table.addEventListener("pointerdown", (event) => this.#down(event));
    table.addEventListener("pointerover", (event) => this.#over(event));
    table.addEventListener("keydown", (event) => this.#key(event));
  }

  cellAt(i, j) {
    return this.byPlace.get(`${i}.${j}`);
  }
  get size() {
    return [this.selection.columns, this.selection.rows];
  }
  get hasFocus() {
    return Boolean(this.table?.contains(document.activeElement));
  }

  /** Chooses a cell; `quiet` neither moves the focus nor tells anybody. */
  choose(cell, { extend = false, quiet = false } = {}) {
    this.selection.choose(cell, extend);
    this.#changed(quiet);
  }
  chooseCells(cells, { quiet = false } = {}) {
    this.selection.chooseCells(cells);
    this.#changed(quiet);
  }
  #changed(quiet) {
    this.mark();
    if (quiet) return;
    this.focus();
    this.on.chosen?.(this.selection);
  }
  focus() {
    this.active?.focus({ preventScroll: false });
  }

  #down(event) {
    const cell = event.target.closest("td[data-i]");
    if (!cell || event.button) return;
    event.preventDefault();
    this.dragging = true;
    this.choose(place(cell), { extend: event.shiftKey });
  }
  #over(event) {
    const cell = event.target.closest("td[data-i]");
    if (cell && this.dragging && cell !== this.active) this.choose(place(cell), { extend: true });
  }
  #key(event) {
    const lettingGo = event.key === "Escape" && this.selection.count === 1 && this.on.letGo;
    if (lettingGo) this.on.letGo();
    else if (this.selection.press(event)) {
      event.preventDefault();
      this.#changed(false);
    } else if (event.key.toLowerCase() === "p" && this.on.pin && !event.ctrlKey && !event.metaKey && !event.altKey) {
      event.preventDefault();
      this.on.pin();
    } else if (!this.on.key?.(event)) return;
    event.stopPropagation();
  }

  /** What is chosen as tab-separated text, rows from the top, as a spreadsheet reads it. */
  asText() {
    const { left, right, bottom, top } = this.selection.bounds;
    const lines = [];
    for (let j = top; j >= bottom; j--) {
      const line = [];
      for (let i = left; i <= right; i++) line.push(this.cellAt(i, j).textContent.trim().replace("−", "-"));
      lines.push(line.join("\t"));
    }
    return lines.join("\n");
  }
  copy(event) {
    if (!this.hasFocus) return;
    event.preventDefault();
    event.clipboardData.setData("text/plain", this.asText());
    this.on.copied?.(this.selection.count);
  }

  /** Shows on the page what is chosen; only cells that change are touched. */
  mark() {
    for (const cell of this.marked) {
      cell.classList.remove("is-chosen", ...EDGES.map(([name]) => name));
      cell.removeAttribute("aria-selected");
    }
    this.active?.classList.remove("is-active");
    if (this.active) this.active.tabIndex = -1;
    this.marks.clear();
    const many = this.selection.count > 1;
    this.marked = this.selection.cells.map(([i, j]) => this.cellAt(i, j)).filter(Boolean);
    for (const cell of this.marked) {
      const [i, j] = place(cell);
      const names = EDGES.filter(([, across, up]) => !this.selection.has(i + across, j + up)).map(([name]) => name);
      if (many) names.push("is-chosen");
      cell.classList.add(...names);
      cell.setAttribute("aria-selected", "true");
      this.marks.set(cell, names.join(" "));
    }
    this.active = this.cellAt(...this.selection.active) ?? null;
    if (!this.active) return;
    this.active.classList.add("is-active");
    this.active.tabIndex = 0;
  }

  /** Text and classes of a cell as the server has it now; how it is marked stays. */
  fill(i, j, text, classes) {
    const cell = this.cellAt(i, j);
    if (cell.textContent !== text) cell.textContent = text;
    cell.className = `${classes} ${this.marks.get(cell) ?? ""}${cell === this.active ? " is-active" : ""}`;
  }
}

/** "1 cell", "12 cells" */
export const countCells = (count) => (count === 1 ? "1 cell" : `${count} cells`);
