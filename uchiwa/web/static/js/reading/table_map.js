// Where in a table the engine was: a dot with its trail at the cursor, and the moments of chosen cells on the strips.

import { element } from "../lib/elements.js";
import { numberText, plural, unitText } from "../lib/figures.js";
import { latestOnly } from "../lib/fragments.js";
import { showError } from "../lib/message.js";
import { SelectableGrid } from "../lib/selectable_grid.js";

export class TableMap {
  constructor(page) {
    this.page = page;
    this.words = "";
    this.cells = 0;
    this.latest = latestOnly();
    this.grid = new SelectableGrid({
      chosen: (selection) => this.#choose(selection),
      letGo: () => this.clear(),
    });
  }
  get name() {
    return this.page.refs.table?.value ?? "";
  }
  get place() {
    return this.page.root.querySelector(`.map[data-table="${CSS.escape(this.name)}"]`);
  }

  /** Shows the table that is chosen. */
  open() {
    for (const map of this.page.root.querySelectorAll(".map")) map.hidden = map.dataset.table !== this.name;
    this.words = "";
    const drawn = this.place?.querySelector("table");
    if (drawn !== this.grid.table) {
      this.grid.selection = null;
      if (drawn) this.grid.attach(drawn);
    }
    if (this.cells) this.clear();
  }
  clear() {
    this.latest(async () => null);
    this.cells = 0;
    this.words = "";
    this.grid.table?.classList.remove("has-chosen");
    this.page.highlight([]);
    this.showCell();
  }
  async #choose(selection) {
    this.cells = selection.count;
    this.grid.table.classList.add("has-chosen");
    try {
      const query = { table: this.name, cells: selection.text };
      const found = await this.latest(() => this.page.ask("cells", query));
      if (!found) return;
      const where = this.cells === 1 ? "This cell" : `${this.cells} cells`;
      this.words = found.count
        ? `${where}: ${plural(found.count, "moment")}, ${found.seconds.toFixed(1)} s, shaded on the strips.`
        : "The engine was never here in this log.";
      this.page.highlight(found.spans);
      this.showCell();
    } catch (error) {
      showError(error);
    }
  }

  showCell() {
    const { page, place } = this;
    if (!place || page.panel !== "table") return;
    const logs = page.values?.logs ?? [];
    const log = logs.find((other) => !page.hidden.has(other.id)) ?? logs[0];
    const cell = log?.cell;
    for (const other of place.querySelectorAll("td.is-here")) other.classList.remove("is-here");
    this.#drawTrail(place, cell?.trail ?? []);
    if (cell && !cell.problem && cell.i !== null) this.grid.cellAt(cell.i, cell.j)?.classList.add("is-here");
    this.#say(this.#sentence(place.dataset, cell));
  }
  #sentence({ x, y, unit, decimals }, cell) {
    if (!cell) {
      return this.page.bySpeed ? "Aligned by engine speed there is no one moment to show." : "No reading here.";
    }
    if (cell.problem) return cell.problem;
    const across = `${numberText(cell.x, x === "rpm" ? 0 : 1)} ${unitText(x)}`;
    const up = cell.y === null ? "" : ` × ${numberText(cell.y, y === "1" ? 3 : 1)} ${unitText(y)}`;
    const off = cell.i === null ? ", off the table" : "";
    return `${across}${up}: ${numberText(cell.value, Number(decimals))} ${unitText(unit)}${off}`;
  }
  #say(text) {
    const more = this.words ? [element("br"), this.words] : [];
    this.page.refs.mapSaid.replaceChildren(element("span", "num", text), ...more);
  }
  #drawTrail(place, cells) {
    const columns = Number(place.dataset.columns);
    const rows = Number(place.dataset.rows);
    const trail = place.querySelector(".map-trail");
    const dot = place.querySelector(".map-dot");
    const body = place.querySelector("tbody");
    const head = body.rows[0].cells[0].offsetWidth;
    const width = body.offsetWidth - head;
    const points = cells.map(([i, j]) => [i + 0.5, rows - 0.5 - j]);
    trail.setAttribute("viewBox", `0 0 ${columns} ${rows}`);
    trail.firstElementChild.setAttribute("points", points.map((point) => point.join(",")).join(" "));
    trail.firstElementChild.setAttribute("vector-effect", "non-scaling-stroke");
    trail.style.left = `${head}px`;
    trail.style.width = `${width}px`;
    trail.style.height = `${body.offsetHeight}px`;
    dot.hidden = !points.length;
    if (!points.length) return;
    const [x, y] = points.at(-1);
    dot.style.left = `${head + (x / columns) * width}px`;
    dot.style.top = `${(y / rows) * body.offsetHeight}px`;
  }
}
