// Reading values off the pulls: a cursor over all bands, and a table of the differences. Values come from the server.

import { element } from "./lib/elements.js";
import { numberText } from "./lib/figures.js";
import { replaceFragment } from "./lib/fragments.js";
import { fetchFragment, formData } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";

const STEPS = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 };
const SAME_FOR_MS = 300;

/** A reading of a pull, with its difference from the first pull's. */
export function readingText(value, first, digits) {
  const text = numberText(value, digits);
  if (value === null || first === null || first === undefined) return text;
  const change = value - first;
  return `${text} (${change < 0 ? "−" : "+"}${Math.abs(change).toFixed(digits)})`;
}

function readingTable(data, at) {
  const table = element("table");
  const head = table.createTHead().insertRow();
  const heading = (row, text) => {
    const cell = element("th", "", text);
    row.append(cell);
    return cell;
  };
  heading(head, `${data.speeds[at]} rpm`);
  for (const curve of data.curves) heading(head, curve.title);
  const body = table.createTBody();
  data.names.forEach((name, row) => {
    const line = body.insertRow();
    const title = heading(line, String(row + 1));
    title.title = name;
    title.className = `pull-ink-${row % 6}`;
    for (const { rows, digits } of data.curves) {
      const first = row > 0 ? rows[0][at] : null;
      line.append(element("td", "", readingText(rows[row][at], first, digits)));
    }
  });
  return table;
}

class PullsPage {
  constructor(root, refs) {
    this.root = root;
    this.refs = refs;
    Object.assign(this, { asking: "", noted: "", turn: Promise.resolve() });
    this.read();
  }
  read() {
    const readings = document.getElementById("pull-readings");
    this.data = readings ? JSON.parse(readings.textContent) : null;
    this.at = -1;
  }
  point(event) {
    if (!this.data) return;
    const { width, left, right, speeds } = this.data;
    const box = this.refs.drawing.getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * width;
    this.show(Math.round(((x - left) / (right - left)) * (speeds.length - 1)));
  }
  step(event) {
    const by = STEPS[event.key];
    if (!by || !this.data) return;
    event.preventDefault();
    this.show(this.at < 0 ? Math.floor(this.data.speeds.length / 2) : this.at + by);
  }
  leave() {
    if (document.activeElement !== this.refs.drawing) this.refs.cursor.setAttribute("visibility", "hidden");
  }
  /** Brings out the pull of the margin that the pointer or the keyboard is at. */
  emphasise(event) {
    const { row } = event.currentTarget.dataset;
    const on = event.type === "pointerenter" || event.type === "focusin";
    this.refs.drawing?.classList.toggle("has-one", on && row !== "-1");
    for (const path of this.refs.page.querySelectorAll("path.pull")) {
      path.classList.toggle("is-one", on && path.dataset.row === row);
    }
  }
  show(at) {
    const { left, right, speeds } = this.data;
    const last = speeds.length - 1;
    this.at = Math.min(Math.max(at, 0), last);
    const x = left + ((right - left) * this.at) / last;
    const { cursor } = this.refs;
    cursor.setAttribute("x1", x);
    cursor.setAttribute("x2", x);
    cursor.setAttribute("visibility", "visible");
    this.refs.table.replaceChildren(readingTable(this.data, this.at));
  }
  // One after the other, so that what is shown last is what was asked last.
  replace(address, body) {
    this.turn = this.turn.then(() => this.replaceNow(address, body));
    return this.turn;
  }
  async replaceNow(address, body) {
    // Enter in a field is a change and a submission of the same: one of them is enough.
    const same = address + JSON.stringify([...body]);
    if (same === this.asking) return;
    this.asking = same;
    try {
      replaceFragment(this.refs.page, await fetchFragment(address, { body }));
      this.read();
    } catch (error) {
      showError(error);
    }
    setTimeout(() => {
      if (this.asking === same) this.asking = "";
    }, SAME_FOR_MS);
  }
  change(event) {
    return this.replace(`${this.root.dataset.address}/view`, new FormData(event.target.closest("form")));
  }
  // A note changes nothing that is drawn.
  async note(event) {
    const body = new FormData(event.target.closest("form"));
    const same = JSON.stringify([...body]);
    if (same === this.noted) return;
    this.noted = same;
    try {
      await fetchFragment(`${this.root.dataset.address}/note`, { body });
    } catch (error) {
      this.noted = "";
      showError(error);
    }
  }
  move(event) {
    const fields = Object.fromEntries(new FormData(event.target));
    const body = formData({ ...fields, [event.submitter.name]: event.submitter.value });
    return this.replace(`${this.root.dataset.address}/note`, body);
  }
}

registerPage("pulls", PullsPage);
