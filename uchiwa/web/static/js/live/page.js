// The Live page: strips that grow, the table under the engine, the correction under its limits, words with the driver.

import { clockText } from "../lib/figures.js";
import { fetchBytes, fetchJson } from "../lib/http.js";
import { showError } from "../lib/message.js";
import { showPanel } from "../lib/tab_panels.js";
import { Pointer } from "../reading/pointer.js";
import { Strips } from "../reading/strips.js";
import { unpackStrips } from "../reading/trace_data.js";
import { ValueTable } from "../reading/value_table.js";
import { Correction } from "./correction.js";
import { CursorValues } from "./cursor_values.js";
import { Link } from "./link.js";
import { Panels } from "./panels.js";
import { standingWords } from "./standing_words.js";
import { LiveTable } from "./table.js";
import { Traces } from "./traces.js";
import { Words } from "./words.js";

const PANEL = "uchiwa-live-panel";
const VALUES_EVERY_MS = 250;
const RELOAD_APART_MS = 1200;

export class LivePage {
  constructor(root, refs) {
    const { address, read, log, table, view } = root.dataset;
    Object.assign(this, { root, refs, address, read, log: Number(log), tableId: table, tableView: view });
    this.plan = JSON.parse(root.dataset.plan);
    this.wanted = new URLSearchParams(location.search).get("show") ?? "";
    Object.assign(this, { view: { start: 0, end: 60 }, following: true, window: 60, cursor: null, second: null });
    Object.assign(this, { hidden: new Set(), spans: [], values: null, chosen: "", standing: null, linked: false });
    Object.assign(this, { framed: false, heardAt: 0, valuesAt: 0, loadedAt: 0, loading: false, lastMessage: -1 });
    this.strips = new Strips(refs.strips, this);
    this.valueTable = new ValueTable(this);
    this.traces_ = new Traces(this.log);
    this.table = new LiveTable(refs);
    this.panels = new Panels(refs);
    this.panels.show(JSON.parse(root.dataset.found));
    this.panels.events(JSON.parse(root.dataset.events));
    this.correction = new Correction(this);
    this.cursorValues = new CursorValues(this);
    this.words = new Words(refs, this.address);
    this.showPanel(localStorage.getItem(PANEL) || "driver");
    this.open().catch(showError);
  }

  async open() {
    await document.fonts.load('11px "Plex Mono"');
    if (this.plan) await this.begin();
    this.pointer = new Pointer(this);
    new ResizeObserver(() => this.resize()).observe(this.refs.strips);
    if (this.root.dataset.ready === "yes") {
      this.standing = { running: false, log: "ready" };
      this.showEnd();
      this.say();
    } else
      this.link = new Link(`${this.address}/watching`, {
        news: (message) => this.take(message),
        state: (open) => {
          this.linked = open;
          this.say();
        },
        shut: () => location.reload(),
      });
    this.askFor();
    setInterval(() => this.say(), 500);
    this.root.dataset.begun = "yes";
  }
  async begin() {
    this.strips.build();
    await this.load();
    this.valueTable.draw();
  }
  resize() {
    if (!this.plan || this.strips.size === this.strips.measured()) return;
    this.strips.build();
    this.draw();
  }

  // What the strips, the pointer and the values ask of a page
  get bySpeed() {
    return false;
  }
  get playing() {
    return this.following;
  }
  get all() {
    return { start: 0, end: Math.max(this.traces_.end, this.plan?.logs[0]?.end ?? 0, 1) };
  }
  traces() {
    return this.plan?.strips.flat() ?? [];
  }
  momentText(moment) {
    return clockText(moment, 2);
  }
  query(extra = {}, show = this.plan.show) {
    const found = new URLSearchParams({ log: this.log, show });
    for (const [key, value] of Object.entries(extra)) {
      for (const part of [value].flat()) if (![null, undefined, ""].includes(part)) found.append(key, part);
    }
    return found;
  }
  draw() {
    if (this.framed || !this.plan) return;
    this.framed = true;
    requestAnimationFrame(() => {
      this.framed = false;
      if (this.following) this.follow();
      this.strips.redraw();
      this.strips.placeLines(this.following ? null : this.cursor, this.second, (moment) => this.momentText(moment));
      document.dispatchEvent(new CustomEvent("livedrawn", { detail: this.traces_.end }));
    });
  }
  follow() {
    const { end } = this.all;
    this.view = this.window ? { start: Math.max(0, end - this.window), end: Math.max(end, this.window) } : this.all;
  }
  setView(start, end) {
    this.pause(true);
    const length = Math.max(end - start, 0.05);
    this.view = { start: Math.max(0, start), end: Math.max(0, start) + length };
    this.draw();
    this.loadSoon();
  }
  zoom(factor, around) {
    this.setView(around - (around - this.view.start) * factor, around + (this.view.end - around) * factor);
  }
  pan(share) {
    const by = (this.view.end - this.view.start) * share;
    this.setView(this.view.start + by, this.view.end + by);
  }
  wholeView() {
    this.setView(0, this.all.end);
  }
  setCursor(moment) {
    if (this.following) return;
    this.cursor = Math.min(Math.max(moment, 0), this.all.end);
    this.strips.placeLines(this.cursor, this.second, (at) => this.momentText(at));
    this.valueTable.fillRoughly();
    this.fetchValues();
  }
  setSecond(moment) {
    this.second = moment;
    this.draw();
    this.valueTable.draw();
    this.fetchValues();
  }
  choose(key) {
    this.chosen = this.chosen === key ? "" : key;
    this.valueTable.draw();
    this.draw();
  }
  async goToExtreme(key, which) {
    try {
      const { at } = await fetchJson(`${this.read}/extreme?${this.query({ key, which })}`);
      this.pause(true);
      this.setView(at - 10, at + 10);
      this.setCursor(at);
    } catch (error) {
      showError(error);
    }
  }
  async arrange(act, key) {
    try {
      const { show } = await fetchJson(`${this.read}/arrange?${this.query({ do: act, key })}`);
      await this.replan(show);
    } catch (error) {
      showError(error);
    }
  }
  fetchValues() {
    return this.cursorValues.fetch();
  }

  // Stretches that are fetched
  async load() {
    if (this.loading || !this.plan) return;
    this.loading = true;
    this.loadedAt = performance.now();
    if (this.following) this.follow();
    const { start, end } = this.view;
    try {
      const stretch = { start, end: Math.max(end, this.all.end), pad: 0 };
      const data = unpackStrips(await fetchBytes(`${this.read}/strips?${this.query(stretch)}`));
      const newer = this.waiting ?? [];
      this.waiting = null;
      this.traces_.load(data);
      for (const [times, values] of newer) this.traces_.add(times, values);
      this.strips.fine = this.traces_.byName;
      this.strips.coarse = this.traces_.byName;
      this.strips.axes = data.axes;
      if (!this.following) {
        this.figure();
        this.valueTable.draw();
      }
      this.draw();
    } catch (error) {
      if (!this.standing || this.standing.running) this.loadSoon(RELOAD_APART_MS);
      else showError(error);
    }
    this.loading = false;
  }
  loadSoon(wait = 120) {
    clearTimeout(this.loadTimer);
    this.loadTimer = setTimeout(() => this.load(), wait);
  }
  /** What the tuner chose, else what suits the channels: those of the first second are not recognised yet. */
  async replan(show = this.wanted) {
    this.wanted = show;
    const plan = await fetchJson(`${this.address}/plan?${new URLSearchParams({ show })}`);
    if (!plan) return;
    const first = !this.plan;
    this.plan = plan;
    this.askFor();
    await this.begin();
    if (first) this.draw();
  }

  // What comes
  askFor() {
    const keys = this.traces().map((trace) => trace.key);
    this.link?.ask({ keys, table: this.tableId, view: this.tableView });
  }
  take(message) {
    if (message.gone) return location.reload();
    if (message.reload || (!this.plan && message.t)) this.replanSoon();
    if (message.t?.length) this.takeRows(message);
    if (message.computed) this.traces_.add(message.computed.t, message.computed.v, false);
    if (message.cells) this.table.fill(message.cells);
    if (message.advice) this.panels.advice(message.advice);
    if (message.correcting) this.panels.correcting(message.correcting);
    if (message.found) this.panels.show(message.found);
    if (message.events?.length) this.panels.events(message.events);
    if (message.standing) this.takeStanding(message.standing);
    return undefined;
  }
  /** What fails is tried again with the next rows. */
  replanSoon() {
    if (this.replanning) return;
    this.replanning = true;
    const done = () => {
      this.replanning = false;
    };
    setTimeout(() => this.replan().then(done, done), 60);
  }
  takeRows({ t: times, v: values, beyond, at }) {
    this.heardAt = performance.now();
    if (this.loading) this.waiting = [...(this.waiting ?? []), [times, values]];
    this.traces_.add(times, values);
    if (at) this.table.move(at, times.at(-1));
    if (!this.plan) return;
    if (this.following) this.showNewest(beyond);
    const since = performance.now() - this.loadedAt;
    const leaves = this.traces_.leaves(this.plan, this.strips.axes);
    if (this.following && leaves && since > RELOAD_APART_MS) this.load();
    this.draw();
  }
  figure() {
    for (const trace of this.traces()) this.traces_.of(trace.key).figures(this.view.start, this.view.end);
  }
  showNewest(beyond) {
    const found = {};
    for (const trace of this.traces()) {
      const value = this.traces_.of(trace.key).last;
      found[trace.key] = { value, other: null, limit: beyond?.[trace.key] ?? "" };
    }
    this.values = { logs: [{ id: this.log, values: found }] };
    if (performance.now() - this.valuesAt < VALUES_EVERY_MS) return;
    this.valuesAt = performance.now();
    this.figure();
    this.cursor = this.all.end;
    this.valueTable.draw();
    this.cursor = null;
    this.refs.clock.textContent = clockText(this.all.end);
  }
  takeStanding(standing) {
    const before = this.standing;
    this.standing = standing;
    if (standing.message !== this.lastMessage) {
      if (this.lastMessage >= 0) this.words.fetch();
      this.lastMessage = standing.message;
    }
    this.correction.showOverlay();
    this.say();
    if (!standing.running && standing.log === "ready" && before?.log !== "ready") this.showEnd();
  }
  say() {
    const { standing } = this;
    const [words, dot] = standingWords(standing, this.linked, this.heardAt, this.traces_.end > 0);
    const mark = this.refs.state.firstElementChild;
    mark.className = `dot ${dot}`;
    this.refs.state.replaceChildren(mark, words);
    this.root.dataset.standing = standing && !standing.running ? standing.log : "recording";
  }
  /** What is over is looked at as a whole, with the cursor at its end. */
  stand() {
    this.window = 0;
    this.refs.window.value = "0";
    this.follow();
    this.pause(true);
    this.loadSoon(0);
    this.setCursor(this.all.end);
    this.refs.pause.hidden = true;
    this.refs.clock.textContent = clockText(this.all.end);
  }
  async showEnd() {
    this.refs.toReading.hidden = false;
    if (this.refs.end) this.refs.end.hidden = true;
    this.link?.close();
    if (this.root.dataset.ready !== "yes") await this.replan().catch(() => undefined);
    this.stand();
    this.refs.why.textContent = "";
    this.refs.correctingDot.className = "dot";
    this.refs.soFar.textContent = "";
    this.table.leave();
    await this.correction.fetch();
  }
  // What is done
  pause(now = this.following) {
    const paused = typeof now === "boolean" ? now : this.following;
    if (paused !== this.following) return;
    this.following = !paused;
    this.refs.pause.textContent = paused ? "go on" : "pause";
    this.refs.pause.setAttribute("aria-pressed", paused ? "true" : "false");
    if (!paused) this.load();
    this.draw();
  }
  chooseWindow() {
    this.window = Number(this.refs.window.value);
    if (!this.standing || this.standing.running) {
      this.pause(false);
      this.load();
    } else this.setView(this.window ? this.all.end - this.window : 0, this.all.end);
  }
  choosePurpose() {
    return this.replan(this.refs.purpose.value).catch(showError);
  }
  chooseTable() {
    const here = new URLSearchParams(location.search);
    here.set("table", this.refs.table.value);
    here.set("view", this.tableView);
    location.search = here;
  }
  chooseView(event) {
    this.showView(event.target.dataset.view);
    this.askFor();
    if (this.standing && !this.standing.running && this.tableView !== "change") this.fetchCells();
  }
  showView(view) {
    this.tableView = view;
    for (const button of this.refs.views.children) {
      button.classList.toggle("is-on", button.dataset.view === this.tableView);
      button.setAttribute("aria-pressed", button.dataset.view === this.tableView ? "true" : "false");
    }
    for (const scale of this.refs.legend.querySelectorAll(".scale"))
      scale.hidden = !scale.dataset.for.split(" ").includes(this.tableView);
    const kind = this.tableView === "change" ? "difference" : this.tableView;
    this.refs.grid.className = this.refs.grid.className.replace(/view-\w+/, `view-${kind}`);
    this.correction.show(view === "change");
  }
  async fetchCells() {
    try {
      const asked = new URLSearchParams({ table: this.tableId, view: this.tableView });
      this.table.fill(await fetchJson(`${this.address}/cells?${asked}`));
    } catch (error) {
      showError(error);
    }
  }
  openOther() {
    location.search = new URLSearchParams({ session: this.refs.other.value });
  }
  write(event) {
    return this.words.write(event);
  }
  changeLimits() {
    return this.correction.changeLimits();
  }
  switchOverlay() {
    return this.correction.switchOverlay();
  }
  takeCells(event) {
    this.correction.takeCells(event);
  }

  showPanel(name) {
    showPanel(this.root, this.refs.tabs, name, PANEL);
  }
  openPanel(event) {
    this.showPanel(event.target.closest("button").dataset.panel);
  }
  key(event) {
    if (event.target.closest("input, select, textarea, button, td")) return;
    if (event.key === " ") {
      event.preventDefault();
      this.pause();
    } else if (event.key === "Escape") this.setSecond(null);
  }
}
