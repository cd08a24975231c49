// How traces are painted on a strip: lines, single samples where few are in view, and what lies beyond a limit.

import { themeColour } from "../lib/elements.js";
import { lowerBound } from "./trace_data.js";

const DOTS_UP_TO = 110;

export function drawTraces(strips, plot, number) {
  const axes = strips.axes[number] ?? [];
  const painter = new Painter(strips, plot);
  const { context, box } = painter;
  context.save();
  context.beginPath();
  context.rect(box.left, box.top, box.width, box.height);
  context.clip();
  context.lineJoin = "round";
  const { plan, hidden } = strips.state;
  const beyond = [];
  for (const trace of [...plan.strips[number]].reverse()) {
    const axis = axes.find((drawn) => drawn.unit === trace.unit);
    if (!axis) continue;
    plan.logs.forEach((log, logNumber) => {
      if (hidden.has(log.id)) return;
      const look = strips.look(trace.key, number, logNumber);
      const drawn = painter.trace(log.id, trace.key, look, axis);
      if (drawn) beyond.push(...painter.limitsPassed(trace.key, drawn, axis));
    });
  }
  context.setLineDash([]);
  painter.limits(beyond);
  context.restore();
}

class Painter {
  constructor(strips, plot) {
    this.strips = strips;
    this.context = plot.ctx;
    this.box = plot.bbox;
    this.ratio = window.devicePixelRatio || 1;
    this.view = strips.state.view;
    this.bySpeed = strips.bySpeed;
  }

  trace(log, key, look, axis) {
    const { context, ratio, strips } = this;
    const name = `${log} ${key}`;
    const drawn = { fine: strips.fine?.get(name), coarse: strips.coarse.get(name) };
    if (!drawn.fine && !drawn.coarse) return null;
    context.strokeStyle = themeColour(look.ink);
    context.lineWidth = (strips.state.chosen === key ? 1.9 : 1.15) * ratio;
    context.setLineDash(look.dash.map((length) => length * ratio));
    context.beginPath();
    this.path(drawn, axis);
    context.stroke();
    this.dots(drawn.fine, axis);
    return drawn;
  }

  /** The view finely; what lies beside it, while it is being fetched, coarsely. */
  path({ fine, coarse }, axis) {
    const { start, end } = this.view;
    if (this.bySpeed) {
      this.part(fine || coarse, -Infinity, Infinity, axis);
      return;
    }
    if (!fine?.points || fine === coarse) {
      this.part(coarse || fine, start, end, axis);
      return;
    }
    if (coarse && fine.from > start) this.part(coarse, start, fine.from, axis);
    this.part(fine, Math.max(start, fine.from), Math.min(end, fine.to), axis);
    if (coarse && fine.to < end) this.part(coarse, fine.to, end, axis);
  }
  part(trace, from, to, { low, high }) {
    if (!trace?.points) return;
    const { context, box } = this;
    const { x, y, origin } = trace;
    const { start, end } = this.view;
    const kx = box.width / (end - start);
    const ky = box.height / (high - low);
    const left = box.left + (origin - start) * kx;
    const bottom = box.top + box.height + low * ky;
    const first = Number.isFinite(from) ? Math.max(0, lowerBound(x, from - origin) - 1) : 0;
    const last = Number.isFinite(to) ? Math.min(x.length, lowerBound(x, to - origin) + 2) : x.length;
    let known = 0;
    for (let at = first; at < last; at++) {
      const value = y[at];
      if (Number.isNaN(value)) {
        // A single sample between two gaps is still to be seen.
        if (known === 1) context.lineTo(left + x[at - 1] * kx + 1, bottom - y[at - 1] * ky);
        known = 0;
        continue;
      }
      if (known) context.lineTo(left + x[at] * kx, bottom - value * ky);
      else context.moveTo(left + x[at] * kx, bottom - value * ky);
      known++;
    }
  }
  /** Where few samples are in view, each shows as one. */
  dots(trace, { low, high }) {
    if (!trace?.all || this.bySpeed) return;
    const { context, box, ratio } = this;
    const { start, end } = this.view;
    const first = lowerBound(trace.x, start - trace.origin);
    const last = lowerBound(trace.x, end - trace.origin);
    if (last - first > DOTS_UP_TO) return;
    context.fillStyle = context.strokeStyle;
    for (let at = first; at < last; at++) {
      if (Number.isNaN(trace.y[at])) continue;
      const x = box.left + ((trace.x[at] + trace.origin - start) / (end - start)) * box.width;
      const y = box.top + box.height * (1 - (trace.y[at] - low) / (high - low));
      context.fillRect(x - 1.7 * ratio, y - 1.7 * ratio, 3.4 * ratio, 3.4 * ratio);
    }
  }

  /** The limits that a trace passes in view. */
  limitsPassed(key, drawn, axis) {
    const figures = drawn.fine?.view;
    if (!figures || figures.low === null) return [];
    const passed = (limit) => (limit.above ? figures.high >= limit.value : figures.low <= limit.value);
    return this.strips.state.plan.limits
      .filter((limit) => limit.key === key && passed(limit))
      .map((limit) => ({ limit, drawn, axis }));
  }
  limits(beyond) {
    const shown = new Set();
    const labels = [];
    for (const { limit, drawn, axis } of beyond) {
      const { top, height } = this.box;
      const y = top + height * (1 - (limit.value - axis.low) / (axis.high - axis.low));
      this.beyond(limit, drawn, axis, y);
      const name = `${limit.words} ${limit.value}`;
      if (shown.has(name)) continue;
      shown.add(name);
      this.limitLine(y);
      labels.push({ words: limit.words, y: limit.above ? y + 17 * this.ratio : y });
    }
    this.limitLabels(labels);
  }
  beyond(limit, drawn, axis, y) {
    const { context, box, ratio } = this;
    context.save();
    context.beginPath();
    context.rect(box.left, limit.above ? box.top : y, box.width, limit.above ? y - box.top : box.top + box.height - y);
    context.clip();
    context.strokeStyle = themeColour("--vermilion");
    context.lineWidth = 1.6 * ratio;
    context.beginPath();
    this.path(drawn, axis);
    context.stroke();
    context.restore();
  }
  limitLine(y) {
    const { context, box, ratio } = this;
    context.strokeStyle = themeColour("--vermilion");
    context.lineWidth = ratio;
    context.globalAlpha = 0.55;
    context.beginPath();
    context.moveTo(box.left, y);
    context.lineTo(box.left + box.width, y);
    context.stroke();
    context.globalAlpha = 1;
  }
  limitLabels(labels) {
    const { context, box, ratio } = this;
    context.font = `${11 * ratio}px "Plex Sans"`;
    context.textAlign = "right";
    const right = box.left + box.width;
    let free = box.top + 12 * ratio;
    for (const { words, y } of labels.sort((a, b) => a.y - b.y)) {
      const at = Math.min(Math.max(y - 4 * ratio, free), box.top + box.height - 3 * ratio);
      free = at + 13 * ratio;
      const width = context.measureText(words).width;
      context.fillStyle = themeColour("--sheet");
      context.globalAlpha = 0.8;
      context.fillRect(right - width - 9 * ratio, at - 10 * ratio, width + 6 * ratio, 13 * ratio);
      context.globalAlpha = 1;
      context.fillStyle = themeColour("--vermilion");
      context.fillText(words, right - 6 * ratio, at);
    }
  }
}
