// The table under the engine: cells as the server draws them, where the engine is, and how it came there.

import { numberText, unitText } from "../lib/figures.js";
import { SelectableGrid } from "../lib/selectable_grid.js";

const TRAIL_S = 8;

export class LiveTable {
  constructor(refs) {
    this.refs = refs;
    this.grid = new SelectableGrid({});
    this.trail = [];
    this.place = refs.gridBox;
    if (refs.grid) this.grid.attach(refs.grid);
    refs.grid?.classList.add("is-optional");
  }
  fill(cells) {
    for (const [i, j, text, classes, words] of cells) {
      const cell = this.grid.cellAt(i, j);
      if (!cell) continue;
      const here = cell.classList.contains("is-here");
      this.grid.fill(i, j, text, here ? `${classes} is-here` : classes);
      cell.title = words;
    }
  }
  /** Where the engine is now. */
  move(at, seconds) {
    if (!this.refs.grid) return;
    for (const other of this.refs.grid.querySelectorAll("td.is-here")) other.classList.remove("is-here");
    if (!at || at.problem) {
      this.refs.here.textContent = at?.problem ?? "";
      return;
    }
    if (at.i !== null) this.grid.cellAt(at.i, at.j)?.classList.add("is-here");
    for (const [i, j] of at.trail) this.trail.push([seconds, i, j]);
    this.trail = this.trail.filter(([when]) => when >= seconds - TRAIL_S);
    this.#draw();
    const { x, y } = this.units;
    const across = `${numberText(at.x, x === "rpm" ? 0 : 1)} ${unitText(x)}`;
    const up = at.y === null ? "" : ` × ${numberText(at.y, y === "1" ? 3 : 1)} ${unitText(y)}`;
    this.refs.here.textContent = at.i === null ? `${across}${up}, off the table` : across + up;
  }
  /** The engine is nowhere any more. */
  leave() {
    this.move(null, 0);
    this.trail = [];
    this.place.querySelector(".map-trail").firstElementChild.setAttribute("points", "");
    this.place.querySelector(".map-dot").hidden = true;
  }
  get units() {
    const [up, along] = this.refs.grid.querySelector(".corner").textContent.split(" / ");
    return along === undefined ? { x: up, y: "" } : { x: along, y: up };
  }
  #draw() {
    const table = this.refs.grid;
    const columns = Number(table.dataset.columns);
    const rows = Number(table.dataset.rows);
    const line = this.place.querySelector(".map-trail");
    const dot = this.place.querySelector(".map-dot");
    const [first] = table.tBodies[0].rows;
    const left = first.cells[0].offsetWidth + 1;
    const top = table.tBodies[0].offsetTop;
    const width = table.offsetWidth - left;
    const height = table.tBodies[0].offsetHeight;
    const points = this.trail.map(([, i, j]) => [i + 0.5, rows - 0.5 - j]);
    line.setAttribute("viewBox", `0 0 ${columns} ${rows}`);
    line.firstElementChild.setAttribute("points", points.map((point) => point.join(",")).join(" "));
    line.firstElementChild.setAttribute("vector-effect", "non-scaling-stroke");
    Object.assign(line.style, { left: `${left}px`, top: `${top}px`, width: `${width}px`, height: `${height}px` });
    dot.hidden = !points.length;
    if (!points.length) return;
    const [x, y] = points.at(-1);
    dot.style.left = `${left + (x / columns) * width}px`;
    dot.style.top = `${top + (y / rows) * height}px`;
  }
}
