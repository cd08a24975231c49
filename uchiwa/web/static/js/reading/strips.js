// Strips: traces over one common time. What to draw, and on which axes, the server says.

import { element, themeColour } from "../lib/elements.js";
import { clockText, numberText, unitText } from "../lib/figures.js";
import { lowerBound } from "./trace_data.js";
import { drawTraces } from "./trace_painting.js";

export const GUTTER = 52;
const INKS = ["--ink", "--indigo", "--amber-ink", "--green", "--second", "--indigo"];
const DASHES = [[], [7, 3], [2, 3], [10, 3, 2, 3], [4, 2], [1, 2]];
const SPEED_STEPS = [10, 20, 50, 100, 200, 250, 500, 1000, 2000, 5000];
const TIME_STEPS = [
  0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200,
  14400,
];
const FONT = '11px "Plex Mono"';

export function swatch(look, ink) {
  const mark = element("i", "swatch");
  mark.style.setProperty("--swatch", ink);
  if (look.dash.length) mark.classList.add(look.dash[0] < 3 ? "is-dotted" : "is-dashed");
  return mark;
}

function digitsOf(step) {
  if (step >= 1) return 0;
  if (step >= 0.1) return 1;
  return step >= 0.01 ? 2 : 3;
}

export class Strips {
  /** `state` gives plan, view, hidden logs, highlighted spans and the chosen trace. */
  constructor(place, state) {
    this.place = place;
    this.state = state;
    this.coarse = new Map();
    this.fine = null;
    this.axes = [];
    this.plots = [];
    this.place.replaceChildren();
    this.hit = element("div", "strips-hit");
    this.hit.tabIndex = 0;
    this.hit.setAttribute("role", "application");
    this.hit.setAttribute("aria-label", "Strips. Arrow keys move the cursor; the values stand in the margin.");
    this.lines = ["cursor", "second"].map((name) => {
      const line = element("div", `line-${name}`);
      line.hidden = true;
      line.append(element("span"));
      return line;
    });
  }

  get many() {
    return this.state.plan.logs.length > 1;
  }
  get bySpeed() {
    return this.state.plan.by === "speed";
  }
  /** Ink and dash of a trace: of one log by trace, of several by log. */
  look(key, strip, logNumber) {
    const nth = this.state.plan.strips[strip].findIndex((trace) => trace.key === key);
    if (this.many) return { ink: INKS[logNumber % INKS.length], dash: DASHES[nth % DASHES.length] };
    return { ink: INKS[nth % INKS.length], dash: nth > 3 ? DASHES[1] : [] };
  }
  measured() {
    return `${this.place.clientWidth} ${this.place.clientHeight}`;
  }

  build() {
    this.size = this.measured();
    for (const { plot } of this.plots) plot.destroy();
    this.place.replaceChildren();
    const { strips } = this.state.plan;
    const room = Math.max(this.place.clientHeight - 20 - strips.length * 17, 40 * strips.length);
    const height = Math.floor(room / strips.length);
    this.plots = strips.map((traces, number) => this.#strip(traces, number, height, number === strips.length - 1));
    this.hit.style.left = `${GUTTER}px`;
    this.hit.style.width = `${this.place.clientWidth - 2 * GUTTER}px`;
    this.place.append(this.hit, ...this.lines);
    this.bottom = this.place.clientHeight - 20;
  }
  #strip(traces, number, height, last) {
    const box = element("div", "strip-box");
    const inside = element("div");
    box.append(this.#header(traces, number), inside);
    this.place.append(box);
    const empty = { paths: () => null, points: { show: false } };
    const options = {
      width: this.place.clientWidth,
      height: height + (last ? 20 : 0),
      legend: { show: false },
      cursor: { show: false },
      padding: [5, 0, last ? 0 : 5, 0],
      scales: {
        x: { time: false, range: () => [this.state.view.start, this.state.view.end] },
        y0: { range: () => this.#range(number, 0) },
        y1: { range: () => this.#range(number, 1) },
      },
      axes: [this.#timeAxis(last), this.#valueAxis(number, 0), this.#valueAxis(number, 1)],
      series: [{}, { scale: "y0", ...empty }, { scale: "y1", ...empty }],
      hooks: {
        drawClear: [(plot) => this.#bands(plot)],
        draw: [(plot) => drawTraces(this, plot, number)],
      },
    };
    const nothing = [
      [0, 1],
      [0, 1],
      [0, 1],
    ];
    return { plot: new uPlot(options, nothing, inside), traces };
  }
  #timeAxis(show) {
    const text = (value, step) => (this.bySpeed ? String(Math.round(value)) : clockText(value, digitsOf(step)));
    return {
      show,
      size: 20,
      gap: 2,
      stroke: themeColour("--second"),
      font: FONT,
      ticks: { size: 3, stroke: themeColour("--rule") },
      grid: { show: false },
      space: 74,
      incrs: this.bySpeed ? SPEED_STEPS : TIME_STEPS,
      values: (_plot, ticks, _axis, _space, step) => ticks.map((tick) => text(tick, step)),
    };
  }
  #valueAxis(number, which) {
    const axis = () => this.axes[number]?.[which];
    return {
      scale: `y${which}`,
      side: which ? 1 : 3,
      size: GUTTER,
      gap: 4,
      stroke: themeColour("--second"),
      font: FONT,
      ticks: { show: false },
      grid: { show: which === 0, stroke: themeColour("--rule"), width: 1 },
      splits: () => axis()?.ticks ?? [],
      values: (_plot, ticks) => ticks.map((tick) => (axis() ? numberText(tick, axis().decimals) : "")),
    };
  }
  #range(number, which) {
    const axis = this.axes[number]?.[which];
    return axis ? [axis.low, axis.high] : [0, 1];
  }
  #header(traces, number) {
    const head = element("div", "strip-head");
    const sides = [element("span"), element("span")];
    const recorded = traces.filter((trace) => Object.keys(trace.missing).length < this.state.plan.logs.length);
    const units = [...new Set(recorded.map((trace) => trace.unit))];
    for (const trace of traces) sides[units.indexOf(trace.unit) === 1 ? 1 : 0].append(this.#label(trace, number));
    (units.length ? units : [""]).slice(0, 2).forEach((unit, side) => {
      const text = element("b", "", unitText(unit));
      if (side) sides[1].append(text);
      else sides[0].prepend(text);
    });
    head.append(...sides);
    return head;
  }
  #label(trace, number) {
    const label = element("span", "strip-label");
    const look = this.look(trace.key, number, 0);
    label.append(swatch(look, this.many ? "var(--second)" : `var(${look.ink})`), trace.title);
    const missing = Object.values(trace.missing);
    if (missing.length) {
      label.classList.add("is-missing");
      label.title = missing.join(" ");
      label.append(
        " ",
        element("small", "", missing.length < this.state.plan.logs.length ? "not in every log" : missing[0]),
      );
    }
    return label;
  }

  /** Takes what the server sent: the whole log coarsely, or the view finely. */
  take(data, isCoarse) {
    const keyed = new Map(data.traces.map((trace) => [`${trace.log} ${trace.key}`, trace]));
    const origin = data.by === "speed" ? 0 : data.start;
    for (const trace of keyed.values()) {
      trace.origin = origin;
      if (!trace.points) continue;
      trace.from = origin + trace.x[0];
      trace.to = origin + trace.x[trace.points - 1];
    }
    if (isCoarse) this.coarse = keyed;
    this.fine = keyed;
    this.axes = data.axes;
  }
  redraw() {
    const begun = performance.now();
    for (const { plot } of this.plots) plot.setData(plot.data, true);
    this.pending = begun;
    queueMicrotask(() => {
      if (!this.pending) return;
      performance.measure("strips frame", { start: this.pending, end: performance.now() });
      this.pending = 0;
    });
  }

  toX(seconds) {
    const { start, end } = this.state.view;
    return GUTTER + ((seconds - start) / (end - start)) * (this.place.clientWidth - 2 * GUTTER);
  }
  toTime(clientX) {
    const box = this.place.getBoundingClientRect();
    const { start, end } = this.state.view;
    return start + ((clientX - box.left - GUTTER) / (box.width - 2 * GUTTER)) * (end - start);
  }
  #bands(plot) {
    const { spans, view } = this.state;
    if (!spans.length) return;
    const { left, top, width, height } = plot.bbox;
    const toX = (seconds) => left + ((seconds - view.start) / (view.end - view.start)) * width;
    plot.ctx.save();
    plot.ctx.fillStyle = themeColour("--pale");
    plot.ctx.globalAlpha = 0.75;
    for (const [from, to] of spans) {
      if (to < view.start || from > view.end) continue;
      const a = toX(Math.max(from, view.start));
      plot.ctx.fillRect(a, top, Math.max(toX(Math.min(to, view.end)) - a, 2), height);
    }
    plot.ctx.restore();
  }

  /** The nearest drawn point of a trace, and whether every sample is drawn there. */
  near(log, key, moment) {
    for (const set of [this.fine, this.coarse]) {
      const trace = set?.get(`${log} ${key}`);
      if (!trace?.points || !(moment >= trace.from && moment <= trace.to)) continue;
      const at = lowerBound(trace.x, moment - trace.origin);
      const [before, after] = [Math.max(at - 1, 0), Math.min(at, trace.points - 1)];
      const apart = (index) => Math.abs(trace.x[index] + trace.origin - moment);
      return { value: trace.y[apart(before) < apart(after) ? before : after], exact: trace.all };
    }
    return null;
  }
  placeLines(cursor, second, text) {
    [cursor, second].forEach((moment, number) => {
      const line = this.lines[number];
      const x = moment === null ? 0 : this.toX(moment);
      line.hidden = moment === null || x < GUTTER - 1 || x > this.place.clientWidth - GUTTER + 1;
      if (line.hidden) return;
      line.style.transform = `translateX(${x}px)`;
      line.style.height = `${this.bottom}px`;
      line.firstChild.textContent = text(moment);
      line.classList.toggle("is-left", x > this.place.clientWidth - 130);
    });
  }
}
