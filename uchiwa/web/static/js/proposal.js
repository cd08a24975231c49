// A proposal's page (Fuel and Spark): the sheet with its grid, the margin that explains a cell, the drawer with its
// moments. Page state only; every rule and number comes from the server.

import { Drawer } from "./lib/drawer.js";
import { latestOnly, replaceFragment } from "./lib/fragments.js";
import { fetchFragment, formData } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";
import { countCells, SelectableGrid } from "./lib/selectable_grid.js";

const EXPLAIN_AFTER_MS = 60;
const DRAWER = "uchiwa-drawer";

class ProposalPage {
  constructor(root, refs, nextTick) {
    this.root = root;
    this.refs = refs;
    this.nextTick = nextTick;
    const { address, table, view, shape, i, j } = root.dataset;
    Object.assign(this, { address, table, view, shape, turn: 0, reason: "", cell: [Number(i), Number(j)] });
    this.latest = latestOnly(EXPLAIN_AFTER_MS);
    this.grid = new SelectableGrid({
      chosen: () => this.changed(),
      pin: () => this.pinChosen(),
      copied: (count) => this.sayCount(`${countCells(count)} copied`),
    });
    this.drawer = new Drawer({ pull: refs.pull, title: refs.drawerTitle, read: refs.read, strips: refs.strips });
    this.grid.attach(refs.grid ?? null, this.cell);
    this.mark();
    if (localStorage.getItem(DRAWER) === "up") this.openDrawer();
  }

  chosenText() {
    return this.refs.grid ? this.grid.selection.text : this.cell.join(".");
  }
  changed() {
    this.cell = this.grid.selection.active;
    this.reason = "";
    this.mark();
    this.explain();
  }
  mark() {
    if (this.refs.at) this.refs.at.value = this.cell.join(".");
    this.sayCount(countCells(this.refs.grid ? this.grid.selection.count : 1));
  }
  sayCount(text) {
    if (this.refs.count) this.refs.count.textContent = text;
  }
  query(extra) {
    return new URLSearchParams({ table: this.table, shape: this.shape, turn: this.turn, ...extra });
  }
  looking() {
    return this.query({ view: this.view, cell: this.cell.join(".") });
  }
  async explain() {
    const [i, j] = this.cell;
    const chosen = this.refs.grid ? this.grid.selection.count : 1;
    try {
      const html = await this.latest(() =>
        fetchFragment(`${this.address}/cell?${this.query({ i, j, chosen, view: this.view })}`),
      );
      if (html === undefined) return;
      replaceFragment(this.refs.margin, html);
      if (this.refs.address) this.refs.address.textContent = this.refs.margin.querySelector("h2").textContent;
    } catch (error) {
      showError(error);
    }
    if (this.drawer.isUp) this.drawMoments();
  }

  async replaceSheet(asked) {
    try {
      const inGrid = this.grid.hasFocus;
      replaceFragment(this.refs.sheet, await asked);
      await this.nextTick();
      const drawn = this.refs.sheet.querySelector("table.grid");
      this.grid.attach(drawn, this.grid.selection ? undefined : this.cell);
      this.mark();
      if (inGrid) this.grid.focus();
      this.explain();
    } catch (error) {
      showError(error);
    }
  }
  redraw() {
    history.replaceState(null, "", `?${this.looking()}`);
    return this.replaceSheet(fetchFragment(`${this.address}?${this.looking()}`));
  }
  show(event) {
    this.view = event.target.dataset.view;
    return this.redraw();
  }
  draw(event) {
    this.shape = event.target.dataset.shape;
    return this.redraw();
  }
  turnTo(event) {
    this.turn = Number(event.target.dataset.turn);
    return this.redraw();
  }
  chooseRow(event) {
    this.cell = [this.cell[0], Number(event.target.dataset.j)];
    return this.redraw();
  }
  pick(event) {
    const piece = event.target.closest("svg [data-i]");
    if (!piece) return;
    this.cell = [Number(piece.dataset.i), Number(piece.dataset.j)];
    if (this.grid.table && this.refs.grid) this.grid.choose(this.cell, { quiet: true });
    for (const other of this.refs.sheet.querySelectorAll("svg .is-active")) other.classList.remove("is-active");
    piece.classList.add("is-active");
    this.mark();
    this.explain();
  }

  changePolicy() {
    const body = new FormData(this.refs.policy);
    this.table = body.get("table") ?? this.table;
    return this.replaceSheet(fetchFragment(`${this.address}/policy`, { body }));
  }
  async changeRule(form, body) {
    await this.replaceSheet(fetchFragment(form.getAttribute("action"), { body }));
    this.refs.rules.hidden = false;
  }
  switchRule(event) {
    const form = event.target.closest("form");
    const body = new FormData(form);
    body.set("on", form.querySelector('input[type="checkbox"]').checked ? "true" : "false");
    return this.changeRule(form, body);
  }
  addCondition(event) {
    const form = event.target.closest("form");
    return this.changeRule(form, new FormData(form));
  }
  showLeftOut(event) {
    this.reason = event.target.dataset.reason;
    return this.openDrawer();
  }
  openPart(event) {
    const part = event.target.closest("button");
    const same = part.classList.contains("is-open");
    this.refs.rules.hidden = same;
    for (const other of this.refs.sheet.querySelectorAll(".sieve-part, .sieve-rule")) {
      const name = other.dataset.part || other.dataset.rule;
      other.classList.toggle("is-open", !same && name === part.dataset.part);
    }
  }
  pinChosen() {
    if (this.root.dataset.pins === "no") return undefined;
    const body = formData({ cells: this.chosenText(), view: this.view, table: this.table, shape: this.shape });
    return this.replaceSheet(fetchFragment(`${this.address}/pin`, { body }));
  }
  takeAll() {
    this.refs.taken.value = "";
  }
  takeChosen() {
    this.refs.taken.value = this.chosenText();
  }

  pull() {
    localStorage.setItem(DRAWER, this.drawer.isUp ? "down" : "up");
    if (this.drawer.isUp) this.drawer.close();
    else this.openDrawer();
  }
  openDrawer() {
    this.drawer.open();
    return this.drawMoments();
  }
  drawMoments() {
    const [i, j] = this.cell;
    const path = this.reason
      ? `left-out?${this.query({ reason: this.reason })}`
      : `moments?${this.query({ i, j, view: this.view })}`;
    return this.drawer.show(`${this.address}/${path}`);
  }
}

registerPage("proposal", ProposalPage);
