// The whole log above the strips, with the stretch in view, and the lanes of what happened in it.

import { button, element, themeColour } from "../lib/elements.js";
import { clockText } from "../lib/figures.js";
import { GUTTER } from "./strips.js";

const CLICK_PX = 4;
const LETTER_PX = 6.2;

export class Overview {
  constructor(page) {
    this.page = page;
    this.place = page.refs.overview;
    this.lanes = page.refs.lanes;
    this.lanesDrawn = "";
    this.#listen();
  }
  get width() {
    return this.place.clientWidth - 2 * GUTTER;
  }

  forgetLanes() {
    this.lanesDrawn = "";
  }
  drawLanes() {
    const { view, plan, hidden } = this.page;
    const notes = plan.logs.map((log) => log.notes.length);
    const key = [view.start, view.end, this.lanes.clientWidth, notes, [...hidden]].join(" ");
    if (key === this.lanesDrawn) return;
    this.lanesDrawn = key;
    this.lanes.replaceChildren(
      element("b", "lane-name", "drives"),
      element("b", "lane-name is-low", "found"),
      ...this.#bars(view, this.lanes.clientWidth - 2 * GUTTER, true),
    );
  }
  draw() {
    const canvas = this.#line();
    this.place.replaceChildren(...this.#bars(this.page.all, this.width, false), canvas, element("div", "window"));
    this.moveWindow();
  }
  moveWindow() {
    const box = this.place.querySelector(".window");
    if (!box) return;
    const { view, all } = this.page;
    const length = all.end - all.start;
    box.style.left = `${GUTTER + ((view.start - all.start) / length) * this.width}px`;
    box.style.width = `${Math.max(3, ((view.end - view.start) / length) * this.width)}px`;
  }

  #bars(view, width, labelled) {
    const events = this.page.bySpeed ? [] : this.page.events();
    const inView = events.filter((event) => event.end >= view.start && event.start <= view.end);
    return inView.map((event) => this.#bar(event, events, view, width, labelled));
  }
  #bar(event, events, view, width, labelled) {
    const toX = (moment) => Math.min(1, Math.max(0, (moment - view.start) / (view.end - view.start))) * width;
    const wide = toX(event.end) - toX(event.start);
    const bar = labelled ? button("", () => this.#go(event), { className: "bar" }) : element("i", "bar");
    bar.className = `bar is-${event.kind}`;
    bar.tabIndex = -1;
    bar.style.left = `${GUTTER + toX(event.start)}px`;
    bar.style.width = `${Math.max(wide, event.kind === "drive" ? 2 : 3)}px`;
    const until = event.end > event.start ? ` to ${clockText(event.end, 1)}` : "";
    bar.title = `${event.words}${event.more ? ` (${event.more})` : ""}, ${clockText(event.start, 1)}${until}`;
    if (event.kind === "drive") {
      bar.style.zIndex = String(500 - Math.min(499, Math.round(event.end - event.start)));
      const letters = LETTER_PX * event.words.length + 8;
      const reach = Math.max(event.start, view.start) + (letters / width) * (view.end - view.start);
      if (labelled && wide > letters && !covered(event, events, reach)) bar.textContent = event.words;
    }
    return bar;
  }
  #go(event) {
    this.page.showMoment(event.start, event.end);
    this.page.strips.hit.focus();
  }

  /** The first trace over the whole log. */
  #line() {
    const { plan, all, strips } = this.page;
    const canvas = element("canvas");
    const ratio = window.devicePixelRatio || 1;
    canvas.width = this.width * ratio;
    canvas.height = this.place.clientHeight * ratio;
    canvas.style.width = `${this.width}px`;
    canvas.style.left = `${GUTTER}px`;
    const trace = strips.coarse.get(`${plan.logs[0].id} ${this.page.traces()[0].key}`);
    if (!trace?.points || trace.whole.low === null) return canvas;
    const context = canvas.getContext("2d");
    const { low, high } = trace.whole;
    context.strokeStyle = themeColour("--second");
    context.globalAlpha = 0.75;
    context.lineWidth = ratio * 0.8;
    context.beginPath();
    for (let at = 0; at < trace.points; at++) {
      const x = ((trace.x[at] + trace.origin - all.start) / (all.end - all.start)) * canvas.width;
      const y = canvas.height * (0.94 - 0.86 * ((trace.y[at] - low) / (high - low || 1)));
      if (at && !Number.isNaN(trace.y[at])) context.lineTo(x, y);
      else context.moveTo(x, y);
    }
    context.stroke();
    return canvas;
  }

  #listen() {
    let from = null;
    const at = (event) => {
      const box = this.place.getBoundingClientRect();
      const share = Math.min(Math.max((event.clientX - box.left - GUTTER) / (box.width - 2 * GUTTER), 0), 1);
      return this.page.all.start + share * (this.page.all.end - this.page.all.start);
    };
    this.place.addEventListener("pointerdown", (event) => {
      from = { moment: at(event), x: event.clientX };
      this.place.setPointerCapture(event.pointerId);
    });
    this.place.addEventListener("pointermove", (event) => {
      if (!from || Math.abs(event.clientX - from.x) <= CLICK_PX) return;
      this.page.setView(Math.min(from.moment, at(event)), Math.max(from.moment, at(event)));
    });
    this.place.addEventListener("pointerup", (event) => {
      if (from && Math.abs(event.clientX - from.x) <= CLICK_PX) {
        const half = (this.page.view.end - this.page.view.start) / 2;
        this.page.setView(from.moment - half, from.moment + half);
        this.page.setCursor(from.moment);
      }
      from = null;
    });
  }
}

/** Whether a shorter drive lies where an event's name would be written. */
function covered(event, events, reach) {
  const length = event.end - event.start;
  return events.some(
    (other) =>
      other.kind === "drive" && other.end - other.start < length && other.end > event.start && other.start < reach,
  );
}
