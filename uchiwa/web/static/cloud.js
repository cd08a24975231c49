"use strict";
// The scatter and the distribution: what the server counted, as pictures.

const CLOUD_LEFT = 50, CLOUD_BOTTOM = 22, CLOUD_TOP = 6, CLOUD_RIGHT = 8;

function niceTicks(low, high, count) {
  const least = (high - low) / count, power = 10 ** Math.floor(Math.log10(least));
  const step = [1, 2, 2.5, 5, 10].map((one) => one * power).find((one) => one >= least * 0.999);
  const ticks = [];
  for (let at = Math.ceil(low / step - 1e-9) * step; at <= high + step * 1e-9; at += step) ticks.push(Number(at.toPrecision(12)));
  return ticks;
}
function frame(canvas, x, y) {
  const ratio = window.devicePixelRatio || 1, width = canvas.clientWidth, height = canvas.clientHeight;
  canvas.width = width * ratio;
  canvas.height = height * ratio;
  const context = canvas.getContext("2d");
  context.scale(ratio, ratio);
  const inner = { left: CLOUD_LEFT, top: CLOUD_TOP, width: width - CLOUD_LEFT - CLOUD_RIGHT, height: height - CLOUD_TOP - CLOUD_BOTTOM };
  const toX = (value) => inner.left + ((value - x[0]) / (x[1] - x[0])) * inner.width;
  const toY = (value) => inner.top + inner.height * (1 - (value - y[0]) / (y[1] - y[0]));
  context.font = '11px "Plex Mono"';
  context.fillStyle = inkOf("--second");
  context.strokeStyle = inkOf("--rule");
  context.lineWidth = 1;
  context.textAlign = "center";
  for (const tick of niceTicks(x[0], x[1], 5)) {
    const at = Math.round(toX(tick)) + 0.5;
    context.beginPath(); context.moveTo(at, inner.top); context.lineTo(at, inner.top + inner.height); context.stroke();
    context.fillText(String(tick).replace("-", "−"), Math.min(Math.max(at, inner.left + 8), width - 16), height - 7);
  }
  context.textAlign = "right";
  for (const tick of niceTicks(y[0], y[1], 5)) {
    const at = Math.round(toY(tick)) + 0.5;
    context.beginPath(); context.moveTo(inner.left, at); context.lineTo(inner.left + inner.width, at); context.stroke();
    context.fillText(String(tick).replace("-", "−"), inner.left - 6, at + 3.5);
  }
  return { context, inner, toX, toY };
}
const cloudShades = () => [0, 1, 2, 3, 4, 5, 6, 7].map((step) => `color-mix(in oklab, ${inkOf(step < 4 ? "--pale" : "--ink")} ${step < 4 ? 100 - step * 24 : (step - 3) * 22}%, ${inkOf("--indigo")})`);
function drawCloudPicture(canvas, data, box) {
  const { context, inner, toX, toY } = frame(canvas, data.x_range, data.y_range);
  const size = Math.max(2, inner.width / 180 + 0.6), [low, high] = data.colour_range;
  const fills = data.colour.length ? cloudShades() : [];
  const most = Math.max(1, ...data.count);
  data.x.forEach((value, number) => {
    if (fills.length) {
      const shade = data.colour[number];
      context.fillStyle = shade === null ? inkOf("--rule") : fills[Math.max(0, Math.min(7, Math.floor(((shade - low) / (high - low || 1)) * 8)))];
      context.globalAlpha = 1;
    } else {
      context.fillStyle = inkOf("--indigo");
      context.globalAlpha = 0.3 + 0.7 * Math.sqrt(data.count[number] / most);
    }
    context.fillRect(toX(value) - size / 2, toY(data.y[number]) - size / 2, size, size);
  });
  context.globalAlpha = 1;
  if (box) {
    context.strokeStyle = inkOf("--ink");
    context.lineWidth = 1.5;
    context.strokeRect(toX(Math.min(box[0], box[1])), toY(Math.max(box[2], box[3])), Math.abs(toX(box[1]) - toX(box[0])), Math.abs(toY(box[3]) - toY(box[2])));
  }
  return fills;
}
function cloudValue(canvas, data, clientX, clientY) {
  const area = canvas.getBoundingClientRect();
  const across = (clientX - area.left - CLOUD_LEFT) / (area.width - CLOUD_LEFT - CLOUD_RIGHT);
  const up = 1 - (clientY - area.top - CLOUD_TOP) / (area.height - CLOUD_TOP - CLOUD_BOTTOM);
  const within = (share, [low, high]) => low + Math.min(Math.max(share, 0), 1) * (high - low);
  return [within(across, data.x_range), within(up, data.y_range)];
}
function drawSpreadPicture(canvas, data) {
  const most = Math.max(...data.seconds), edges = data.edges;
  const { context, inner, toX, toY } = frame(canvas, [edges[0], edges[edges.length - 1]], [0, most * 1.08]);
  context.fillStyle = inkOf("--pale");
  context.strokeStyle = inkOf("--indigo");
  data.seconds.forEach((seconds, number) => {
    if (!seconds) return;
    const left = toX(edges[number]), width = Math.max(1, toX(edges[number + 1]) - left - 1);
    context.fillRect(left, toY(seconds), width, inner.top + inner.height - toY(seconds));
    context.beginPath(); context.moveTo(left, toY(seconds)); context.lineTo(left + width, toY(seconds)); context.stroke();
  });
  context.strokeStyle = inkOf("--ink");
  context.lineWidth = 1.5;
  const middle = toX(data.quantiles["50%"]);
  context.beginPath(); context.moveTo(middle, inner.top); context.lineTo(middle, inner.top + inner.height); context.stroke();
}
