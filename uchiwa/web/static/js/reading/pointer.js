// Pointer, wheel and fingers on the strips: the cursor follows, drag pans, the wheel and two fingers zoom.

import { element } from "../lib/elements.js";

const CLICK_PX = 4;
const LEAST_PINCH_PX = 20;

export class Pointer {
  constructor(page) {
    this.page = page;
    this.fingers = new Map();
    this.press = null;
    this.pinch = null;
    this.frame = 0;
    this.band = null;
    const { hit } = page.strips;
    this.hit = hit;
    hit.addEventListener("pointermove", (event) => this.#move(event));
    hit.addEventListener("pointerdown", (event) => this.#down(event));
    hit.addEventListener("pointerup", (event) => this.#up(event));
    hit.addEventListener("pointercancel", () => this.#cancel());
    hit.addEventListener("wheel", (event) => this.#wheel(event), { passive: false });
    hit.addEventListener("dblclick", () => page.wholeView());
  }

  #apart() {
    const [a, b] = [...this.fingers.values()];
    return Math.max(LEAST_PINCH_PX, Math.abs(a - b));
  }
  #down(event) {
    if (event.button) return;
    this.hit.setPointerCapture(event.pointerId);
    this.hit.focus({ preventScroll: true });
    this.fingers.set(event.pointerId, event.clientX);
    this.pinch = this.fingers.size === 2 ? this.#apart() : null;
    this.press = { x: event.clientX, view: { ...this.page.view }, moved: false, selects: event.shiftKey };
  }
  #move(event) {
    const { press, page } = this;
    if (this.fingers.has(event.pointerId)) this.fingers.set(event.pointerId, event.clientX);
    if (this.pinch && this.fingers.size === 2) this.#zoomByFingers();
    else if (press && (press.moved || Math.abs(event.clientX - press.x) > CLICK_PX)) this.#drag(event, press);
    else if (!press && !page.playing) {
      const moment = page.strips.toTime(event.clientX);
      cancelAnimationFrame(this.frame);
      this.frame = requestAnimationFrame(() => page.setCursor(moment));
    }
  }
  #zoomByFingers() {
    const [a, b] = [...this.fingers.values()];
    const apart = this.#apart();
    this.page.zoom(this.pinch / apart, this.page.strips.toTime((a + b) / 2));
    this.pinch = apart;
  }
  #drag(event, press) {
    press.moved = true;
    if (press.selects) {
      this.#drawBand(press.x, event.clientX);
      return;
    }
    const by = ((press.x - event.clientX) / this.hit.clientWidth) * (press.view.end - press.view.start);
    this.page.setView(press.view.start + by, press.view.end + by);
    this.hit.classList.add("is-panning");
  }
  #up(event) {
    const { press, page } = this;
    this.fingers.delete(event.pointerId);
    this.hit.classList.remove("is-panning");
    this.press = null;
    this.pinch = null;
    if (!press) return;
    const moment = page.strips.toTime(event.clientX);
    if (press.selects && press.moved) {
      this.#dropBand();
      const start = page.strips.toTime(press.x);
      page.setView(Math.min(start, moment), Math.max(start, moment));
    } else if (!press.moved) {
      if (event.shiftKey) page.setSecond(moment);
      else page.setCursor(moment);
    }
  }
  #cancel() {
    this.press = null;
    this.pinch = null;
    this.fingers.clear();
    this.hit.classList.remove("is-panning");
    this.#dropBand();
  }
  #wheel(event) {
    event.preventDefault();
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey) {
      this.page.pan(((event.deltaX || event.deltaY) / this.hit.clientWidth) * 1.4);
      return;
    }
    const turned = Math.min(Math.max(event.deltaY, -240), 240);
    this.page.zoom(Math.exp(turned / 420), this.page.strips.toTime(event.clientX));
  }

  #drawBand(from, to) {
    if (!this.band) {
      this.band = element("div", "line-select");
      this.page.refs.strips.append(this.band);
    }
    this.band.style.left = `${Math.min(from, to) - this.page.refs.strips.getBoundingClientRect().left}px`;
    this.band.style.width = `${Math.abs(to - from)}px`;
  }
  #dropBand() {
    this.band?.remove();
    this.band = null;
  }
}
