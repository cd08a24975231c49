// The grid of a table under edit: cell line, paste, undo, pins. One request for an edit, one for a move.

import { Drawer } from "../lib/drawer.js";
import { latestOnly, replaceFragment } from "../lib/fragments.js";
import { fetchJson, formData } from "../lib/http.js";
import { countCells, SelectableGrid } from "../lib/selectable_grid.js";

const EXPLAIN_AFTER_MS = 90;
const TURNS = 24;
const PIXELS_A_TURN = 18;

export class TableEditor {
  constructor(root, refs) {
    this.root = root;
    this.refs = refs;
    const { address, table, show, version, frozen, i, j, cells } = root.dataset;
    Object.assign(this, { address, table, show, version: Number(version), frozen: frozen === "yes" });
    this.turn = 0;
    this.turned = false;
    this.stale = false;
    this.last = Promise.resolve();
    this.latest = latestOnly(EXPLAIN_AFTER_MS);
    this.latestTurn = latestOnly();
    if (refs.strips)
      this.drawer = new Drawer({ pull: refs.pull, title: refs.drawerTitle, read: refs.read, strips: refs.strips });
    this.grid = new SelectableGrid({
      chosen: () => this.chosen(),
      pin: this.frozen ? null : () => this.pin(),
      key: (event) => !this.frozen && this.gridKey(event),
      copied: (count) => this.say(`${countCells(count)} copied`),
    });
    this.grid.attach(refs.grid, [Number(i), Number(j)]);
    const more = cells
      .split(" ")
      .map((cell) => cell.split(".").map(Number))
      .filter(([x, y]) => this.grid.cellAt(x, y));
    if (more.length > 1) this.grid.chooseCells(more, { quiet: true });
    if (location.hash !== "#line") this.grid.active?.focus({ preventScroll: true });
    this.mark();
    this.markPatch();
  }

  say(text, { bad = false } = {}) {
    this.refs.said.textContent = text;
    this.refs.said.classList.toggle("is-bad", bad);
  }
  get cell() {
    const [i, j] = this.grid.selection.active;
    return { i, j };
  }
  chosen() {
    this.mark();
    this.explain();
  }
  mark() {
    if (!this.refs.cells) return;
    const { selection, active } = this.grid;
    this.refs.cells.value = selection.text;
    this.refs.count.textContent = countCells(selection.count);
    const column = this.refs.grid.tHead.rows[0].cells[selection.active[0] + 1].textContent;
    const row = active.parentElement.cells[0].textContent;
    this.refs.where.textContent = selection.rows > 1 ? `${column} × ${row}` : column;
  }
  looking(extra) {
    const { table, show, turn } = this;
    return { table, show, turn, ...this.cell, chosen: this.grid.selection.count, ...extra };
  }

  /** Margin and lines of the chosen cell; after an edit the relief too. */
  async explain({ edited = false } = {}) {
    this.stale ||= edited;
    try {
      const query = () => new URLSearchParams(this.looking({ relief: this.stale }));
      const pieces = await this.latest(() => fetchJson(`${this.address}/cell?${query()}`));
      if (pieces) this.put(pieces);
    } catch (error) {
      this.say(error.message, { bad: true });
    }
    this.drawMoments();
  }
  put({ margin, lines, relief }) {
    replaceFragment(this.refs.margin, margin);
    replaceFragment(this.refs.lines, lines);
    if (relief) replaceFragment(this.refs.relief, relief);
    if (relief) this.stale = false;
    this.markPatch();
  }
  /** The patch of the relief that stands for the chosen cell. */
  markPatch() {
    const [i, j] = this.grid.selection.active;
    for (const patch of this.root.querySelectorAll(".relief .is-active")) patch.classList.remove("is-active");
    this.root.querySelector(`.relief [data-i="${i}"][data-j="${j}"]`)?.classList.add("is-active");
  }

  pullDrawer() {
    if (this.drawer.isUp) return this.drawer.close();
    this.drawer.open();
    return this.drawMoments();
  }
  drawMoments() {
    if (!this.drawer?.isUp) return undefined;
    const query = new URLSearchParams({ table: this.table, cells: this.grid.selection.text });
    return this.drawer.show(`${this.address}/moments?${query}`);
  }

  /** Undo and redo work wherever the keyboard is, but for the fields that undo their own typing. */
  pageKey(event) {
    const name = event.key.toLowerCase();
    const command = (event.ctrlKey || event.metaKey) && !event.altKey;
    if (!command || !["z", "y"].includes(name) || ["line", "why"].includes(event.target.name)) return undefined;
    event.preventDefault();
    return name === "y" || event.shiftKey ? this.redo() : this.undo();
  }
  gridKey(event) {
    if (event.ctrlKey || event.metaKey || event.altKey) return false;
    if (event.key === "Delete" || event.key === "Backspace") this.send("edit", { line: "was" });
    else if (event.key === "Enter") this.startLine();
    else if (event.key.length === 1 && event.key !== " ") this.startLine(null, event.key);
    else return false;
    event.preventDefault();
    return true;
  }
  startLine(_event, text) {
    if (this.frozen) return;
    const { line } = this.refs;
    if (text !== undefined) line.value = text;
    line.focus();
    line.setSelectionRange(line.value.length, line.value.length);
  }
  lineKey(event) {
    if (event.key !== "Escape") return;
    event.preventDefault();
    event.stopPropagation();
    this.refs.line.value = "";
    this.say("");
    this.grid.focus();
  }
  write(event) {
    this.startLine(event, event.target.dataset.words);
  }
  async apply() {
    const { line } = this.refs;
    if (await this.send("edit", { line: line.value })) {
      line.value = "";
      this.grid.focus();
    } else line.focus();
  }

  copy(event) {
    this.grid.copy(event);
  }
  async paste(event) {
    if (this.frozen || event.target.closest?.("input, textarea, select")) return;
    event.preventDefault();
    const text = event.clipboardData.getData("text/plain");
    const answer = await this.send("paste", { text, joining: this.refs.joining.value });
    if (!answer?.chosen?.length) return;
    this.grid.chooseCells(answer.chosen, { quiet: true });
    this.grid.focus();
    this.mark();
  }
  undo() {
    return this.send("undo", {});
  }
  redo() {
    return this.send("redo", {});
  }
  pin() {
    return this.send("pin", {});
  }

  /** Edits go out one after the other, each with the version the last one left. */
  send(what, fields) {
    if (this.frozen) return Promise.resolve(null);
    const given = { cells: this.grid.selection.text, why: this.refs.why.value, ...fields };
    const go = () => this.sendNow(what, given);
    this.last = this.last.then(go, go);
    return this.last;
  }
  async sendNow(what, fields) {
    try {
      const body = formData({ ...this.looking(), version: this.version, ...fields });
      const answer = await fetchJson(`${this.address}/${what}`, { body });
      if (answer.reload) {
        location.reload();
        return null;
      }
      this.take(answer);
      return answer;
    } catch (error) {
      this.say(error.message, { bad: true });
      return null;
    }
  }
  take(answer) {
    const start = performance.now();
    this.version = answer.version;
    for (const [i, j, text, classes] of answer.cells) this.grid.fill(i, j, text, classes);
    for (const field of this.root.querySelectorAll('input[name="version"]')) field.value = answer.version;
    this.refs.touched.textContent = countCells(answer.touched);
    this.say(answer.said);
    performance.measure("table redraw", { start, end: performance.now(), detail: answer.cells.length });
    this.explain({ edited: true });
  }

  pick(event) {
    const piece = event.target.closest("svg [data-i]");
    if (piece && !this.turned) this.grid.choose([Number(piece.dataset.i), Number(piece.dataset.j)]);
    this.turned = false;
  }
  turnTo(event) {
    this.turn = Number(event.target.dataset.turn);
    return this.redrawPictures();
  }
  grab(event) {
    const start = event.clientX;
    const from = this.turn;
    const move = (now) => {
      const turn = (((from + Math.round((now.clientX - start) / PIXELS_A_TURN)) % TURNS) + TURNS) % TURNS;
      if (turn === this.turn) return;
      this.turned = true;
      this.turn = turn;
      this.redrawPictures();
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", () => window.removeEventListener("pointermove", move), { once: true });
  }
  async redrawPictures() {
    try {
      const query = new URLSearchParams(this.looking({ relief: true }));
      const pieces = await this.latestTurn(() => fetchJson(`${this.address}/cell?${query}`));
      if (pieces) this.put(pieces);
    } catch (error) {
      this.say(error.message, { bad: true });
    }
  }
}
