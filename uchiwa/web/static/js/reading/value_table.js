// The values of all traces: at the cursor, between two cursors, of several logs, or as figures of a stretch.

import { button, element } from "../lib/elements.js";
import { numberText, unitText } from "../lib/figures.js";
import { swatch } from "./strips.js";

const MOST_LOGS = 4;
const CONTROLS = [
  ["▴", "up", "Move it a strip up"],
  ["▾", "down", "Move it a strip down"],
  ["×", "remove", "Take it out"],
];
const unknown = (value) => value === null || value === undefined;
const difference = (a, b) => (unknown(a) || unknown(b) ? null : a - b);

export class ValueTable {
  constructor(page) {
    this.page = page;
    this.table = page.refs.values;
    this.figures = "view";
  }
  get many() {
    return this.page.plan.logs.length > 1;
  }
  get pair() {
    return this.page.second !== null;
  }
  get shown() {
    return this.page.plan.logs.filter((log) => !this.page.hidden.has(log.id));
  }

  draw() {
    const { plan, refs } = this.page;
    this.#head();
    this.passed = new Set();
    const body = element("tbody");
    plan.strips.forEach((strip, number) => {
      strip.forEach((trace, nth) => {
        body.append(this.#row(trace, number, nth));
      });
    });
    this.table.tBodies[0].replaceWith(body);
    refs.passed.replaceChildren(...[...this.passed].map((words) => element("span", "is-passed", words)));
  }

  #columns() {
    const { page } = this;
    const here = page.momentText(page.cursor ?? page.view.start);
    const there = this.pair ? page.momentText(page.second) : "";
    if (this.many) {
      const logs = this.shown.slice(0, MOST_LOGS).map((log) => {
        const ink = `r ink-${page.plan.logs.indexOf(log)} is-log`;
        return [log.name.replace(/\.[a-z0-9]+$/i, ""), ink, log.name];
      });
      const two = this.shown.length === 2 ? [["difference", "r"]] : [];
      return [[this.pair ? `${here} − ${there}` : here, ""], ...logs, ...two];
    }
    if (this.pair)
      return [
        ["", ""],
        [here, "r num"],
        [there, "r num"],
        ["difference", "r"],
      ];
    return [
      [here, ""],
      ["here", "r"],
      ["lowest", "r"],
      ["mean", "r"],
      ["highest", "r"],
    ];
  }
  #head() {
    const row = element("tr");
    for (const [text, className, title] of this.#columns()) {
      const cell = element("th", className, text);
      cell.scope = "col";
      if (title) cell.title = title;
      row.append(cell);
    }
    this.table.tHead.replaceChildren(row);
    const [first] = row.cells;
    if (!this.many && !this.pair) first.append(" ", this.#toggle());
    else if (this.pair && !this.many && !this.page.bySpeed) {
      const apart = Math.abs((this.page.cursor ?? 0) - this.page.second);
      first.append(element("small", "apart", `${numberText(apart, 3)} s apart`));
    }
  }
  #toggle() {
    const inView = this.figures === "view";
    const change = () => {
      this.figures = inView ? "whole" : "view";
      this.draw();
    };
    const title = "Figures of what is in view, or of the whole log";
    return button(inView ? "in view" : "in whole", change, { className: "plain link figures-toggle", title });
  }

  #row(trace, number, nth) {
    const { page } = this;
    const row = element("tr", nth ? "" : "is-first");
    row.dataset.key = trace.key;
    row.classList.toggle("is-chosen", page.chosen === trace.key);
    row.append(this.#name(trace, number));
    const missing = this.many ? "" : trace.missing[page.plan.logs[0].id];
    if (missing) {
      const cell = element("td", "second is-missing", missing);
      cell.colSpan = 4;
      row.append(cell);
    } else if (this.many) this.#logs(row, trace);
    else this.#oneLog(row, trace);
    return row;
  }
  #name(trace, number) {
    const { page } = this;
    const name = element("th", "trace-name");
    name.scope = "row";
    const look = page.strips.look(trace.key, number, 0);
    const unit = trace.unit === "1" ? "" : `, ${unitText(trace.unit)}`;
    const choose = button(trace.title, () => page.choose(trace.key), {
      className: "plain trace-button",
      title: `${trace.title}${unit}: h highest, l lowest, Delete takes it out`,
    });
    const controls = element("span", "trace-controls");
    for (const [text, act, title] of CONTROLS) {
      controls.append(button(text, () => page.arrange(act, trace.key), { title, label: `${title}: ${trace.title}` }));
    }
    const ink = this.many ? "var(--second)" : `var(${look.ink})`;
    name.append(swatch(look, ink), choose, element("small", "second", ` ${unitText(trace.unit)}`), controls);
    return name;
  }
  #figure(row, trace, value, className = "") {
    const cell = element("td", `num r ${className}`, numberText(value, trace.decimals));
    row.append(cell);
    return cell;
  }
  #reading(log, trace) {
    return this.page.values?.logs.find((other) => other.id === log.id)?.values[trace.key];
  }
  #here(row, trace, log) {
    const found = this.#reading(log, trace);
    const cell = this.#figure(row, trace, found ? found.value : null);
    cell.dataset.log = log.id;
    cell.dataset.decimals = trace.decimals;
    if (found?.limit) {
      const reading = `${numberText(found.value, trace.decimals)} ${unitText(trace.unit)}`;
      cell.classList.add("is-beyond");
      cell.title = found.limit;
      this.passed.add(`${found.limit}: ${trace.title} ${reading}`);
    }
  }
  #logs(row, trace) {
    const change = (found) => difference(found?.value, found?.other);
    for (const log of this.shown.slice(0, MOST_LOGS)) {
      if (this.pair) this.#figure(row, trace, change(this.#reading(log, trace)));
      else this.#here(row, trace, log);
    }
    if (this.shown.length !== 2) return;
    const [a, b] = this.shown.map((log) => this.#reading(log, trace));
    const apart = this.pair ? difference(change(a), change(b)) : difference(a?.value, b?.value);
    this.#figure(row, trace, apart, "is-difference");
  }
  #oneLog(row, trace) {
    const { page } = this;
    const [log] = page.plan.logs;
    this.#here(row, trace, log);
    if (this.pair) {
      const found = this.#reading(log, trace);
      this.#figure(row, trace, found?.other);
      this.#figure(row, trace, difference(found?.value, found?.other), "is-difference");
      return;
    }
    const drawn = page.strips.fine?.get(`${log.id} ${trace.key}`);
    const figures = drawn?.[this.figures];
    for (const which of ["low", "mean", "high"]) {
      const cell = this.#figure(row, trace, figures ? figures[which] : null, which === "mean" ? "" : "is-extreme");
      if (which === "mean") continue;
      cell.title = "Go there";
      cell.addEventListener("click", () => page.goToExtreme(trace.key, which === "high" ? "highest" : "lowest"));
    }
  }

  /** What is drawn near the cursor, until the server has told the exact values. */
  fillRoughly() {
    const { page } = this;
    if (page.bySpeed) return;
    for (const cell of this.table.querySelectorAll("td[data-log]")) {
      const found = page.strips.near(cell.dataset.log, cell.closest("tr").dataset.key, page.cursor);
      if (!found) continue;
      cell.textContent = numberText(found.value, Number(cell.dataset.decimals));
      cell.classList.add("is-rough");
    }
  }
}
