// A frame with axes on a canvas. Where the ticks stand, the server says.

import { themeColour } from "../lib/elements.js";

const LEFT = 50;
const RIGHT = 8;
const TOP = 6;
const BOTTOM = 22;
const FONT = '11px "Plex Mono"';
const text = (value) => String(value).replace("-", "−");

/** Clears a canvas and draws axes over `x` and `y`, each { low, high, ticks }. */
export function drawFrame(canvas, x, y) {
  const ratio = window.devicePixelRatio || 1;
  const { clientWidth: width, clientHeight: height } = canvas;
  canvas.width = width * ratio;
  canvas.height = height * ratio;
  const context = canvas.getContext("2d");
  context.scale(ratio, ratio);
  const inner = { left: LEFT, top: TOP, width: width - LEFT - RIGHT, height: height - TOP - BOTTOM };
  const bottom = inner.top + inner.height;
  const toX = (value) => inner.left + ((value - x.low) / (x.high - x.low)) * inner.width;
  const toY = (value) => bottom - ((value - y.low) / (y.high - y.low)) * inner.height;
  context.font = FONT;
  context.fillStyle = themeColour("--second");
  context.strokeStyle = themeColour("--rule");
  context.textAlign = "center";
  for (const tick of x.ticks) {
    const at = Math.round(toX(tick)) + 0.5;
    line(context, [at, inner.top], [at, bottom]);
    context.fillText(text(tick), Math.min(Math.max(at, inner.left + 8), width - 16), height - 7);
  }
  context.textAlign = "right";
  for (const tick of y.ticks) {
    const at = Math.round(toY(tick)) + 0.5;
    line(context, [inner.left, at], [inner.left + inner.width, at]);
    context.fillText(text(tick), inner.left - 6, at + 3.5);
  }
  return { context, inner, toX, toY };
}

export function line(context, from, to) {
  context.beginPath();
  context.moveTo(...from);
  context.lineTo(...to);
  context.stroke();
}

/** The values under a point of the page. */
export function valuesAt(canvas, x, y, clientX, clientY) {
  const box = canvas.getBoundingClientRect();
  const across = (clientX - box.left - LEFT) / (box.width - LEFT - RIGHT);
  const up = 1 - (clientY - box.top - TOP) / (box.height - TOP - BOTTOM);
  const within = (share, { low, high }) => low + Math.min(Math.max(share, 0), 1) * (high - low);
  return [within(across, x), within(up, y)];
}
