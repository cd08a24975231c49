"use strict";
// The strip drawer: a few traces on one time axis, with the moments of the chosen cell as bands.

window.drawStrips = (place, moments) => {
  place.replaceChildren();
  const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  const inks = [colour("--ink"), colour("--indigo"), colour("--amber-ink")];
  const sync = uPlot.sync("moments");
  moments.traces.forEach((trace, number) => {
    const strip = document.createElement("div");
    strip.className = "strip";
    const name = document.createElement("div");
    name.className = "strip-name";
    const title = document.createElement("b");
    title.textContent = trace.title;
    const value = document.createElement("span");
    const known = trace.values.filter((one) => one !== null);
    const shown = (one) => Number(one.toPrecision(4)).toString();
    const range = `${shown(Math.min(...known))} … ${shown(Math.max(...known))} ${trace.unit === "1" ? "" : trace.unit}`;
    value.textContent = range;
    name.append(title, value);
    const box = document.createElement("div");
    strip.append(name, box);
    place.append(strip);
    const last = number === moments.traces.length - 1;
    const clock = (seconds) => moments.duration < 30 ? `${seconds.toFixed(1)} s` : `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
    new uPlot({
      width: box.clientWidth, height: last ? 56 : 35, legend: { show: false }, padding: [3, 16, last ? 0 : 3, 16],
      cursor: { sync: { key: sync.key }, y: false, drag: { x: true, y: false } },
      scales: { x: { time: false, range: [0, moments.duration] } },
      axes: [
        { show: last, size: 20, stroke: colour("--second"), font: '11px "Plex Mono"', grid: { show: false }, ticks: { size: 3, stroke: colour("--rule") }, values: (_, ticks) => ticks.map(clock) },
        { show: false },
      ],
      series: [{}, { stroke: inks[number % inks.length], width: 1, points: { show: false } }],
      hooks: {
        drawClear: [(plot) => {
          const context = plot.ctx;
          context.save();
          context.fillStyle = colour("--pale");
          for (const [start, end] of moments.spans) {
            const from = plot.valToPos(start, "x", true);
            const width = Math.max(2, plot.valToPos(end, "x", true) - from);
            context.fillRect(from, plot.bbox.top, width, plot.bbox.height);
          }
          context.restore();
        }],
        setCursor: [(plot) => {
          const at = plot.cursor.idx;
          value.textContent = at === null || at === undefined ? range : `${clock(trace.time[at])}  ${trace.values[at] === null ? "–" : shown(trace.values[at])} ${trace.unit === "1" ? "" : trace.unit}`;
        }],
      },
    }, [trace.time, trace.values], box);
  });
};
