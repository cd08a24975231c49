"use strict";
// Draws strips: traces on honest axes over one common time. What to draw, and on which axes, the server says.

const GUTTER = 52;
const INKS = ["--ink", "--indigo", "--amber-ink", "--green", "--second", "--indigo"];
const DASHES = [[], [7, 3], [2, 3], [10, 3, 2, 3], [4, 2], [1, 2]];

const inkOf = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const clockText = (seconds, digits = 0) => {
  const sign = seconds < 0 ? "−" : "", whole = Math.abs(seconds);
  const rounded = Number(whole.toFixed(digits)), minutes = Math.floor(rounded / 60), rest = rounded - 60 * minutes;
  const hours = Math.floor(minutes / 60), pad = rest.toFixed(digits).padStart(digits ? digits + 3 : 2, "0");
  return hours ? `${sign}${hours}:${String(minutes % 60).padStart(2, "0")}:${pad}` : `${sign}${minutes}:${pad}`;
};
const shownUnit = (unit) => ({ 1: "", degC: "°C", deg: "°" })[unit] ?? unit;
window.shownUnit = shownUnit;
const shownNumber = (value, decimals) => (value === null || value === undefined || Number.isNaN(value) ? "–" : value.toFixed(decimals).replace(/^-(?=0(\.0*)?$)/, "").replace("-", "−"));

function unpackStrips(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  let at = 4 + length;
  for (const trace of head.traces) {
    trace.x = new Float32Array(buffer, at, trace.points);
    trace.y = new Float32Array(buffer, at + 4 * trace.points, trace.points);
    at += 8 * trace.points;
  }
  return head;
}
function lowerBound(list, value) {
  let low = 0, high = list.length;
  while (low < high) { const middle = (low + high) >> 1; if (list[middle] < value) low = middle + 1; else high = middle; }
  return low;
}

class Strips {
  // `state` gives plan, view, hidden logs, highlighted spans and limits; `coarse` and `fine` hold the traces.
  constructor(place, state) {
    this.place = place;
    this.state = state;
    this.coarse = new Map();
    this.fine = null;
    this.axes = [];
    this.plots = [];
    this.place.replaceChildren();
    this.hit = document.createElement("div");
    this.hit.className = "strips-hit";
    this.hit.tabIndex = 0;
    this.hit.setAttribute("role", "application");
    this.hit.setAttribute("aria-label", "Strips. Arrow keys move the cursor; the values stand in the margin.");
    this.lines = ["cursor", "second"].map((name) => {
      const line = document.createElement("div");
      line.className = `line-${name}`;
      line.hidden = true;
      const tag = document.createElement("span");
      line.append(tag);
      return line;
    });
  }
  many() { return this.state.plan.logs.length > 1; }
  look(key, strip, logNumber) {
    const nth = this.state.plan.strips[strip].findIndex((one) => one.key === key);
    return this.many()
      ? { ink: INKS[logNumber % INKS.length], dash: DASHES[nth % DASHES.length] }
      : { ink: INKS[nth % INKS.length], dash: nth > 3 ? DASHES[1] : [] };
  }
  measured() { return `${this.place.clientWidth} ${this.place.clientHeight}`; }
  build() {
    this.size = this.measured();
    this.plots.forEach((one) => one.plot.destroy());
    this.place.replaceChildren();
    const strips = this.state.plan.strips, count = strips.length, gap = 17;
    const room = Math.max(this.place.clientHeight - 20 - count * gap, 40 * count);
    const each = Math.floor(room / count), width = this.place.clientWidth;
    this.plots = strips.map((traces, number) => {
      const box = document.createElement("div");
      box.className = "strip-box";
      box.append(this.header(traces, number));
      const inside = document.createElement("div");
      box.append(inside);
      this.place.append(box);
      const last = number === count - 1;
      const axis = (which, side) => ({
        scale: which, side, size: GUTTER, gap: 4, stroke: inkOf("--second"), font: '11px "Plex Mono"', ticks: { show: false },
        grid: { show: side === 3, stroke: inkOf("--rule"), width: 1 },
        splits: () => this.axis(number, which)?.ticks ?? [], values: (_, ticks) => this.tickTexts(number, which, ticks),
      });
      const plot = new uPlot({
        width, height: each + (last ? 20 : 0), legend: { show: false }, cursor: { show: false }, padding: [5, 0, last ? 0 : 5, 0],
        scales: {
          x: { time: false, range: () => [this.state.view.start, this.state.view.end] },
          y0: { range: () => this.range(number, "y0") }, y1: { range: () => this.range(number, "y1") },
        },
        axes: [
          { show: last, size: 20, gap: 2, stroke: inkOf("--second"), font: '11px "Plex Mono"', ticks: { size: 3, stroke: inkOf("--rule") }, grid: { show: false }, space: 74, incrs: this.steps(), values: (_, ticks, __, ___, step) => ticks.map((one) => this.timeText(one, step)) },
          axis("y0", 3), axis("y1", 1),
        ],
        series: [{}, { scale: "y0", paths: () => null, points: { show: false } }, { scale: "y1", paths: () => null, points: { show: false } }],
        hooks: { drawClear: [(one) => this.bands(one)], draw: [(one) => this.traces(one, number)] },
      }, [[0, 1], [0, 1], [0, 1]], inside);
      return { plot, traces };
    });
    this.hit.style.left = `${GUTTER}px`;
    this.hit.style.width = `${width - 2 * GUTTER}px`;
    this.place.append(this.hit, ...this.lines);
    this.bottom = this.place.clientHeight - 20;
  }
  steps() { return this.state.plan.by === "speed" ? [10, 20, 50, 100, 200, 250, 500, 1000, 2000, 5000] : [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400]; }
  timeText(value, step) { return this.state.plan.by === "speed" ? String(Math.round(value)) : clockText(value, step >= 1 ? 0 : step >= 0.1 ? 1 : step >= 0.01 ? 2 : 3); }
  header(traces, number) {
    const head = document.createElement("div");
    head.className = "strip-head";
    const sides = [document.createElement("span"), document.createElement("span")];
    const units = [...new Set(traces.filter((one) => Object.keys(one.missing).length < this.state.plan.logs.length).map((one) => one.unit))];
    for (const trace of traces) {
      const label = document.createElement("span");
      label.className = "strip-label";
      const mark = document.createElement("i");
      const look = this.look(trace.key, number, 0);
      mark.className = "swatch";
      mark.style.setProperty("--swatch", this.many() ? "var(--second)" : `var(${look.ink})`);
      if (look.dash.length) mark.classList.add(look.dash[0] < 3 ? "is-dotted" : "is-dashed");
      label.append(mark, trace.title);
      const missing = Object.values(trace.missing);
      if (missing.length) {
        label.classList.add("is-missing");
        const said = document.createElement("small");
        said.textContent = missing.length < this.state.plan.logs.length ? "not in every log" : missing[0];
        label.title = missing.join(" ");
        label.append(" ", said);
      }
      sides[units.indexOf(trace.unit) === 1 ? 1 : 0].append(label);
    }
    if (!units.length) units.push("");
    units.slice(0, 2).forEach((unit, side) => {
      const text = document.createElement("b");
      text.textContent = shownUnit(unit);
      if (side) sides[1].append(text); else sides[0].prepend(text);
    });
    head.append(...sides);
    return head;
  }
  axis(number, which) { return this.axes[number]?.[which === "y0" ? 0 : 1]; }
  range(number, which) { const one = this.axis(number, which); return one ? [one.low, one.high] : [0, 1]; }
  tickTexts(number, which, ticks) {
    const one = this.axis(number, which);
    return ticks.map((tick) => (one ? shownNumber(tick, one.decimals) : ""));
  }
  take(data, isCoarse) {
    const keyed = new Map(data.traces.map((trace) => [`${trace.log} ${trace.key}`, trace]));
    const origin = data.by === "speed" ? 0 : data.start;
    for (const trace of keyed.values()) {
      trace.origin = origin;
      if (trace.points) { trace.from = origin + trace.x[0]; trace.to = origin + trace.x[trace.points - 1]; }
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
  toX(seconds) { const { start, end } = this.state.view; return GUTTER + ((seconds - start) / (end - start)) * (this.place.clientWidth - 2 * GUTTER); }
  toTime(clientX) {
    const box = this.place.getBoundingClientRect(), { start, end } = this.state.view;
    return start + ((clientX - box.left - GUTTER) / (box.width - 2 * GUTTER)) * (end - start);
  }
  bands(plot) {
    const spans = this.state.spans;
    if (!spans.length) return;
    const context = plot.ctx, { left, top, width, height } = plot.bbox, { start, end } = this.state.view;
    context.save();
    context.fillStyle = inkOf("--pale");
    context.globalAlpha = 0.75;
    for (const [from, to] of spans) {
      if (to < start || from > end) continue;
      const a = left + ((Math.max(from, start) - start) / (end - start)) * width;
      const b = left + ((Math.min(to, end) - start) / (end - start)) * width;
      context.fillRect(a, top, Math.max(b - a, 2), height);
    }
    context.restore();
  }
  traces(plot, number) {
    const context = plot.ctx, box = plot.bbox, axes = this.axes[number] || [], ratio = window.devicePixelRatio || 1;
    const beyond = [];
    context.save();
    context.beginPath();
    context.rect(box.left, box.top, box.width, box.height);
    context.clip();
    context.lineJoin = "round";
    const traces = this.state.plan.strips[number];
    for (let at = traces.length - 1; at >= 0; at--) {
      const side = axes.findIndex((one) => one.unit === traces[at].unit);
      if (side < 0) continue;
      const { low, high } = axes[side];
      this.state.plan.logs.forEach((log, logNumber) => {
        if (this.state.hidden.has(log.id)) return;
        const name = `${log.id} ${traces[at].key}`, fine = this.fine?.get(name), coarse = this.coarse.get(name);
        if (!fine && !coarse) return;
        const look = this.look(traces[at].key, number, logNumber);
        context.strokeStyle = inkOf(look.ink);
        context.lineWidth = (this.state.chosen === traces[at].key ? 1.9 : 1.15) * ratio;
        context.setLineDash(look.dash.map((one) => one * ratio));
        context.beginPath();
        this.path(context, box, fine, coarse, low, high);
        context.stroke();
        this.dots(context, box, fine, low, high, ratio);
        for (const limit of this.state.plan.limits.filter((one) => one.key === traces[at].key)) {
          const reached = fine && fine.view.low !== null && (limit.above ? fine.view.high >= limit.value : fine.view.low <= limit.value);
          if (reached) beyond.push({ limit, fine, coarse, low, high });
        }
      });
    }
    context.setLineDash([]);
    const shown = new Set(), labels = [];
    for (const { limit, fine, coarse, low, high } of beyond) {
      const y = box.top + box.height * (1 - (limit.value - low) / (high - low));
      context.save();
      context.beginPath();
      context.rect(box.left, limit.above ? box.top : y, box.width, limit.above ? y - box.top : box.top + box.height - y);
      context.clip();
      context.strokeStyle = inkOf("--vermilion");
      context.lineWidth = 1.6 * ratio;
      context.beginPath();
      this.path(context, box, fine, coarse, low, high);
      context.stroke();
      context.restore();
      const name = `${limit.words} ${limit.value}`;
      if (shown.has(name)) continue;
      shown.add(name);
      context.strokeStyle = inkOf("--vermilion");
      context.lineWidth = ratio;
      context.globalAlpha = 0.55;
      context.beginPath();
      context.moveTo(box.left, y);
      context.lineTo(box.left + box.width, y);
      context.stroke();
      context.globalAlpha = 1;
      labels.push({ words: limit.words, y: limit.above ? y + 17 * ratio : y });
    }
    this.limitLabels(context, labels, box, ratio);
    context.restore();
  }
  limitLabels(context, labels, box, ratio) {
    context.font = `${11 * ratio}px "Plex Sans"`;
    context.textAlign = "right";
    let free = box.top + 12 * ratio;
    for (const { words, y } of labels.sort((a, b) => a.y - b.y)) {
      const at = Math.min(Math.max(y - 4 * ratio, free), box.top + box.height - 3 * ratio);
      free = at + 13 * ratio;
      context.fillStyle = inkOf("--sheet");
      const width = context.measureText(words).width;
      context.globalAlpha = 0.8;
      context.fillRect(box.left + box.width - width - 9 * ratio, at - 10 * ratio, width + 6 * ratio, 13 * ratio);
      context.globalAlpha = 1;
      context.fillStyle = inkOf("--vermilion");
      context.fillText(words, box.left + box.width - 6 * ratio, at);
    }
  }
  path(context, box, fine, coarse, low, high) {
    const { start, end } = this.state.view;
    if (this.state.plan.by === "speed") { this.part(context, box, fine || coarse, -Infinity, Infinity, low, high); return; }
    if (!fine || fine === coarse || !fine.points) { this.part(context, box, coarse || fine, start, end, low, high); return; }
    if (coarse && fine.from > start) this.part(context, box, coarse, start, fine.from, low, high);
    this.part(context, box, fine, Math.max(start, fine.from), Math.min(end, fine.to), low, high);
    if (coarse && fine.to < end) this.part(context, box, coarse, fine.to, end, low, high);
  }
  part(context, box, trace, from, to, low, high) {
    if (!trace || !trace.points) return;
    const { x, y, origin } = trace, { start, end } = this.state.view;
    const kx = box.width / (end - start), ky = box.height / (high - low), left = box.left + (origin - start) * kx, bottom = box.top + box.height + low * ky;
    const bySpeed = from === -Infinity;
    const first = bySpeed ? 0 : Math.max(0, lowerBound(x, from - origin) - 1), last = bySpeed ? x.length : Math.min(x.length, lowerBound(x, to - origin) + 2);
    let down = false, known = 0, lastX = 0;
    for (let at = first; at < last; at++) {
      const value = y[at];
      if (value !== value) {
        if (known === 1) context.lineTo(lastX + 1, bottom - y[at - 1] * ky);
        down = false; known = 0;
        continue;
      }
      lastX = left + x[at] * kx;
      if (down) context.lineTo(lastX, bottom - value * ky); else context.moveTo(lastX, bottom - value * ky);
      down = true; known++;
    }
  }
  dots(context, box, trace, low, high, ratio) {
    // Where few samples are in view, each shows as one.
    if (!trace || !trace.all || this.state.plan.by === "speed") return;
    const { start, end } = this.state.view;
    const first = lowerBound(trace.x, start - trace.origin), last = lowerBound(trace.x, end - trace.origin);
    if (last - first > 110) return;
    context.fillStyle = context.strokeStyle;
    for (let at = first; at < last; at++) {
      const x = box.left + ((trace.x[at] + trace.origin - start) / (end - start)) * box.width, y = box.top + box.height * (1 - (trace.y[at] - low) / (high - low));
      if (y === y) context.fillRect(x - 1.7 * ratio, y - 1.7 * ratio, 3.4 * ratio, 3.4 * ratio);
    }
  }
  near(log, key, moment) {
    // The nearest drawn point, and whether every sample is drawn there.
    for (const set of [this.fine, this.coarse]) {
      const trace = set?.get(`${log} ${key}`);
      if (!trace || !trace.points || moment < trace.from || moment > trace.to) continue;
      const at = lowerBound(trace.x, moment - trace.origin);
      const before = Math.max(at - 1, 0), after = Math.min(at, trace.points - 1);
      const nearest = Math.abs(trace.x[before] + trace.origin - moment) < Math.abs(trace.x[after] + trace.origin - moment) ? before : after;
      return { value: trace.y[nearest], exact: trace.all };
    }
    return null;
  }
  placeLines(cursor, second, text) {
    [cursor, second].forEach((moment, number) => {
      const line = this.lines[number], x = moment === null ? 0 : this.toX(moment);
      line.hidden = moment === null || x < GUTTER - 1 || x > this.place.clientWidth - GUTTER + 1;
      if (line.hidden) return;
      line.style.transform = `translateX(${x}px)`;
      line.style.height = `${this.bottom}px`;
      line.firstChild.textContent = text(moment);
      line.classList.toggle("is-left", x > this.place.clientWidth - 130);
    });
  }
}
