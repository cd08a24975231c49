// The reading page: what is shown, where the cursors stand, what is asked of the server. Values and rules are the
// server's.

import { clockText } from "../lib/figures.js";
import { fetchBytes, fetchJson } from "../lib/http.js";
import { showError } from "../lib/message.js";
import { showPanel } from "../lib/tab_panels.js";
import { readingQuery } from "./address.js";
import { Arrangement } from "./arrangement.js";
import { Distribution } from "./distribution.js";
import { eventBeside, eventsOf } from "./events.js";
import { takeKey } from "./keys.js";
import { LogChips } from "./log_chips.js";
import { Notes } from "./notes.js";
import { Overview } from "./overview.js";
import { Pointer } from "./pointer.js";
import { Scatter } from "./scatter.js";
import { Replay, Seeking } from "./seeking.js";
import { Strips } from "./strips.js";
import { TableMap } from "./table_map.js";
import { unpackStrips } from "./trace_data.js";
import { ValueTable } from "./value_table.js";
import { placedView, wholeOf, withinWhole } from "./view.js";

const PANEL = "uchiwa-reading-panel";
const REMEMBER_AFTER_MS = 250;
const LOAD_AFTER_MS = 70;

export class ReadingPage {
  constructor(root, refs) {
    Object.assign(this, { root, refs, plan: JSON.parse(root.dataset.plan), view: { start: 0, end: 1 } });
    Object.assign(this, {
      hidden: new Set(),
      spans: [],
      chosen: "",
      cursor: null,
      second: null,
      values: null,
      panel: "",
    });
    Object.assign(this, {
      wanted: 0,
      told: null,
      loading: 0,
      loadTimer: 0,
      rememberTimer: 0,
      framed: false,
      busy: false,
    });
    this.strips = new Strips(refs.strips, this);
    this.valueTable = new ValueTable(this);
    this.overview = new Overview(this);
    this.chips = new LogChips(this);
    this.notes = new Notes(this);
    this.arrangement = new Arrangement(this);
    this.map = new TableMap(this);
    this.scatter = new Scatter(this);
    this.distribution = new Distribution(this);
    this.seeking = new Seeking(this);
    this.replay = new Replay(this);
    refs.add.addEventListener("taken", (event) => this.arrange("add", event.detail.key));
    this.open().catch(showError);
  }

  async open() {
    const given = new URLSearchParams(location.search);
    const number = (name) => (given.has(name) ? Number(given.get(name)) : null);
    this.second = number("second");
    this.cursor = number("at");
    const [from, to] = [number("from"), number("to")];
    const part = from !== null && to > from ? { start: from, end: to } : null;
    await document.fonts.load('11px "Plex Mono"');
    this.all = wholeOf(this.plan, this.strips);
    this.view = part ?? { ...this.all };
    await this.begin(part);
    performance.mark("first strips");
    this.pointer = new Pointer(this);
    this.openNote(given.get("note"));
    this.refs.clock.textContent = this.momentText(this.cursor ?? this.view.start);
    new ResizeObserver(() => this.resize()).observe(this.refs.strips);
  }
  openNote(id) {
    const found = this.plan.logs.flatMap((log) => log.notes.map((note) => ({ note, log })));
    const noted = found.find(({ note }) => String(note.id) === id);
    if (!noted) {
      this.showPanel(localStorage.getItem(PANEL) || "table");
      return;
    }
    this.showMoment(noted.note.start - noted.log.offset, noted.note.end - noted.log.offset);
    this.setView(this.cursor - 15, this.cursor + 15);
    this.showPanel("notes");
  }
  async begin(view) {
    this.root.dataset.ready = "no";
    this.all = wholeOf(this.plan, this.strips);
    this.refs.add.dataset.query = String(this.query());
    this.chips.draw();
    this.arrangement.fillPurposes();
    this.strips.build();
    await this.loadWhole();
    this.all = wholeOf(this.plan, this.strips);
    this.view = view || placedView(this.plan, this.all) || { ...this.all };
    this.overview.forgetLanes();
    this.overview.draw();
    this.notes.draw();
    if (this.cursor !== null) this.cursor = withinWhole(this.all, this.cursor);
    this.valueTable.draw();
    this.draw();
    if (this.view.start > this.all.start || this.view.end < this.all.end) this.loadSoon(0);
    this.fetchValues();
    this.rememberSoon();
    this.root.dataset.ready = "yes";
  }
  resize() {
    if (this.strips.size === this.strips.measured()) return;
    this.strips.build();
    this.overview.draw();
    this.overview.forgetLanes();
    this.draw();
  }

  get bySpeed() {
    return this.plan.by === "speed";
  }
  get playing() {
    return this.replay.playing;
  }
  traces() {
    return this.plan.strips.flat();
  }
  /** Events of the first log that is shown. */
  events() {
    const log = this.plan.logs.find((other) => !this.hidden.has(other.id));
    return log ? eventsOf(log) : [];
  }
  momentText(moment) {
    return this.bySpeed ? `${Math.round(moment)} rpm` : clockText(moment, 2);
  }

  query(extra = {}, show = this.plan.show) {
    return readingQuery(this.plan, show, extra);
  }
  ask(path, extra) {
    return fetchJson(`${this.plan.address}/${path}?${this.query(extra)}`);
  }
  /** Keeps what is looked at in the address, so that it can be sent on and come back to. */
  remember() {
    const extra = { from: this.view.start.toFixed(3), to: this.view.end.toFixed(3) };
    if (this.cursor !== null) extra.at = this.cursor.toFixed(4);
    if (this.second !== null) extra.second = this.second.toFixed(4);
    history.replaceState(null, "", `?${this.query(extra, this.plan.arrangement || this.plan.show)}`);
    for (const back of document.querySelectorAll('input[name="back"]'))
      back.value = location.pathname + location.search;
    this.root.dataset.remembered = "yes";
  }
  rememberSoon() {
    this.root.dataset.remembered = "no";
    clearTimeout(this.rememberTimer);
    this.rememberTimer = setTimeout(() => this.remember(), REMEMBER_AFTER_MS);
  }

  // Traces
  async load(start, end, pad) {
    this.loading += 1;
    const mine = this.loading;
    const query = this.query({ start, end, pad, fit: this.refs.fit.checked });
    const data = unpackStrips(await fetchBytes(`${this.plan.address}/strips?${query}`));
    return mine === this.loading ? data : null;
  }
  async loadWhole() {
    const { start, end } = this.bySpeed ? { start: 0, end: 12_000 } : this.all;
    const data = await this.load(start, end, 0);
    if (data) this.strips.take(data, true);
  }
  loadSoon(wait = LOAD_AFTER_MS) {
    clearTimeout(this.loadTimer);
    this.loadTimer = setTimeout(async () => {
      try {
        const data = await this.load(this.view.start, this.view.end, 0.5);
        if (!data) return;
        this.strips.take(data, false);
        this.draw();
        this.valueTable.draw();
      } catch (error) {
        showError(error);
      }
    }, wait);
  }
  draw() {
    if (this.framed) return;
    this.framed = true;
    requestAnimationFrame(() => {
      this.framed = false;
      this.strips.redraw();
      this.overview.drawLanes();
      this.overview.moveWindow();
      this.placeCursor();
    });
  }
  highlight(spans) {
    this.spans = spans;
    this.draw();
  }
  setView(start, end) {
    const least = this.bySpeed ? 50 : 0.05;
    const length = Math.min(Math.max(end - start, least), this.all.end - this.all.start);
    const from = start + (end - start - length) / 2;
    const held = Math.min(Math.max(from, this.all.start), this.all.end - length);
    this.view = { start: held, end: held + length };
    this.draw();
    if (!this.bySpeed) this.loadSoon();
    this.rememberSoon();
  }
  zoom(factor, around) {
    this.setView(around - (around - this.view.start) * factor, around + (this.view.end - around) * factor);
  }
  pan(share) {
    const by = (this.view.end - this.view.start) * share;
    this.setView(this.view.start + by, this.view.end + by);
  }
  wholeView() {
    this.setView(this.all.start, this.all.end);
  }
  showMoment(start, end = start) {
    const { view } = this;
    const length = view.end - view.start;
    const middle = (start + end) / 2;
    const margin = length * 0.03;
    if (end - start > length * 0.9) this.setView(start - (end - start) * 0.06, end + (end - start) * 0.06);
    else if (start < view.start + margin || end > view.end - margin) {
      this.setView(middle - length / 2, middle + length / 2);
    }
    this.setCursor(start);
  }
  /** The link to the bins, at the moment of the cursor. */
  toBins() {
    if (this.cursor === null || this.bySpeed) return;
    const [log] = this.plan.logs;
    const link = new URL(this.refs.bins.href);
    link.search = new URLSearchParams({ log: log.id, at: (this.cursor + log.offset).toFixed(3) });
    this.refs.bins.href = link;
  }

  // Cursors and values
  placeCursor() {
    this.strips.placeLines(this.cursor, this.second, (moment) => this.momentText(moment));
  }
  setCursor(moment, quiet = false) {
    this.cursor = withinWhole(this.all, moment);
    this.placeCursor();
    this.valueTable.fillRoughly();
    this.refs.clock.textContent = this.momentText(this.cursor);
    this.fetchValues();
    if (!quiet) this.rememberSoon();
    this.notes.sayMoment();
  }
  moveCursor(moment) {
    this.showMoment(withinWhole(this.all, moment));
  }
  setSecond(moment) {
    this.second = moment;
    this.placeCursor();
    this.valueTable.draw();
    this.fetchValues();
    this.rememberSoon();
    this.notes.sayMoment();
  }
  /** One request at a time; while it is under way only the newest wish is remembered. */
  async fetchValues() {
    this.wanted += 1;
    if (this.busy) return;
    this.busy = true;
    while (this.told !== this.wanted) {
      const wanted = this.wanted;
      try {
        this.values = await this.ask("at", {
          key: this.traces().map((trace) => trace.key),
          at: this.cursor ?? this.view.start,
          other: this.second,
          table: this.panel === "table" ? this.map.name : "",
        });
        this.told = wanted;
        if (wanted !== this.wanted) continue;
        this.valueTable.draw();
        this.map.showCell();
      } catch (error) {
        this.told = this.wanted;
        showError(error);
      }
    }
    this.busy = false;
  }
  choose(key) {
    this.chosen = this.chosen === key ? "" : key;
    this.valueTable.draw();
    this.draw();
  }
  async goToExtreme(key, which) {
    this.chosen = key || this.traces()[0].key;
    try {
      this.showMoment((await this.ask("extreme", { key: this.chosen, which })).at);
      this.valueTable.draw();
    } catch (error) {
      showError(error);
    }
  }
  stepTrace(by) {
    const keys = this.traces().map((trace) => trace.key);
    const at = keys.indexOf(this.chosen);
    this.chosen = keys[(at + by + keys.length + (at < 0 && by < 0 ? 1 : 0)) % keys.length];
    this.valueTable.draw();
    this.draw();
  }
  stepEvent(by) {
    const next = eventBeside(this.events(), this.cursor ?? this.view.start, by);
    if (!next) return;
    this.showMoment(next.start, next.end);
    this.refs.hits.textContent = next.words;
  }
  letGo() {
    if (this.spans.length) this.highlight([]);
    else this.setSecond(null);
  }
  removeChosen() {
    if (this.chosen) this.arrange("remove", this.chosen);
  }

  // Arrangements and logs
  reload(show, changes) {
    return this.arrangement.reload(show, changes);
  }
  arrange(act, key) {
    return this.arrangement.change(act, key);
  }
  layBeside() {
    return this.arrangement.layBeside();
  }
  align() {
    return this.reload(this.plan.show, { by: this.refs.by.value, place: [] });
  }
  choosePurpose() {
    return this.refs.purpose.value ? this.reload(this.refs.purpose.value) : undefined;
  }
  keepArrangement() {
    return this.arrangement.keep();
  }
  dropArrangement() {
    return this.arrangement.drop();
  }
  fitAxes() {
    this.loadSoon(0);
  }

  // Panels of the margin
  showPanel(name) {
    this.panel = showPanel(this.root, this.refs.tabs, name, PANEL);
    if (this.panel === "table") this.chooseTable();
    if (this.panel === "scatter") this.scatter.open();
    if (this.panel === "distribution") this.distribution.open();
  }
  openPanel(event) {
    this.showPanel(event.target.dataset.panel);
  }
  chooseTable() {
    this.map.open();
    this.fetchValues();
  }
  drawCloud() {
    return this.scatter.fetch();
  }
  drawSpread() {
    return this.distribution.fetch();
  }
  writeNote() {
    return this.notes.write();
  }
  nextMoment() {
    return this.seeking.seek("next");
  }
  previousMoment() {
    return this.seeking.seek("previous");
  }
  play() {
    this.replay.toggle();
  }

  key(event) {
    takeKey(this, event);
  }
}
