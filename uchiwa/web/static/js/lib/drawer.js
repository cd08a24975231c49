// The drawer below a sheet: the moments that fed what is chosen, drawn by the server, with a cursor that reads them.

import { clockText } from "./figures.js";
import { latestOnly, replaceFragment } from "./fragments.js";
import { fetchFragment } from "./http.js";
import { showError } from "./message.js";

export class Drawer {
  /** Elements of the page: the button that pulls it up, its title, the link to read the log, and the place of it. */
  constructor({ pull, title, read, strips }) {
    Object.assign(this, { pull, title, read, strips });
    this.latest = latestOnly();
    strips.addEventListener("pointermove", (event) => this.#point(event));
    strips.addEventListener("pointerleave", () => this.#hide());
  }

  get isUp() {
    return this.strips.classList.contains("is-up");
  }
  open() {
    this.strips.classList.add("is-up");
    this.pull.setAttribute("aria-expanded", "true");
  }
  async show(address) {
    try {
      const html = await this.latest(() => fetchFragment(address));
      if (html === undefined) return;
      replaceFragment(this.strips, html);
      const { title, read } = this.strips.querySelector("[data-title]").dataset;
      this.title.textContent = title;
      this.read.href = read;
      this.read.hidden = false;
    } catch (error) {
      showError(error);
    }
  }
  close() {
    this.strips.classList.remove("is-up");
    this.pull.setAttribute("aria-expanded", "false");
    this.read.hidden = true;
  }

  #hide() {
    for (const mark of this.strips.querySelectorAll(".moment-cursor, .moment-reading"))
      mark.setAttribute("visibility", "hidden");
  }
  /** The cursor stands at the pointer's time; each trace tells its nearest point. */
  #point(event) {
    const picture = this.strips.querySelector("svg");
    const window_ = event.target.closest?.("svg [data-from]");
    this.#hide();
    if (!picture || !window_) return;
    const { from, to, left, right } = window_.dataset;
    const box = picture.getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * picture.viewBox.baseVal.width;
    const share = Math.min(Math.max((x - Number(left)) / (right - left), 0), 1);
    const cursor = picture.querySelector(".moment-cursor");
    cursor.setAttribute("x1", x);
    cursor.setAttribute("x2", x);
    cursor.setAttribute("visibility", "visible");
    this.#read(window_, "clock", x, clockText(Number(from) + share * (to - from), 2));
    for (const line of window_.querySelectorAll("polyline[data-trace]")) {
      const value = nearestValue(line, x);
      if (value !== null) this.#read(window_, line.dataset.trace, x, value);
    }
  }
  #read(window_, name, x, text) {
    const label = this.strips.querySelector(`.moment-reading[data-reading="${name}"]`);
    if (!label) return;
    const late = x > (Number(window_.dataset.left) + Number(window_.dataset.right)) / 2;
    label.setAttribute("x", late ? x - 6 : x + 6);
    label.setAttribute("text-anchor", late ? "end" : "start");
    label.setAttribute("visibility", "visible");
    label.textContent = text;
  }
}

function nearestValue(line, x) {
  let nearest = null;
  for (const point of line.points) {
    if (nearest === null || Math.abs(point.x - x) < Math.abs(nearest.x - x)) nearest = point;
  }
  if (nearest === null || Math.abs(nearest.x - x) > 12) return null;
  const { low, high, top, bottom, decimals, unit } = line.dataset;
  const value = Number(high) - ((nearest.y - Number(top)) / (bottom - top)) * (high - low);
  return `${value.toFixed(Number(decimals)).replace("-", "−")} ${unit}`;
}
