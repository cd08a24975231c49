// The moments in which a condition holds, and replaying the log.

import { RequestError } from "../lib/http.js";
import { hitsText } from "./hits.js";

const RPM_A_SECOND = 500;

export class Seeking {
  constructor(page) {
    this.page = page;
  }
  /** Goes to the "next" or "previous" moment in which the condition holds. */
  async seek(direction) {
    const { page } = this;
    const { condition, hits } = page.refs;
    const text = condition.value.trim();
    if (!text) {
      hits.textContent = "";
      page.highlight([]);
      return;
    }
    try {
      const at = page.cursor ?? page.view.start - 1e-3;
      const found = await page.ask("moment", { condition: text, at, direction });
      hits.textContent = hitsText(found, direction);
      condition.removeAttribute("aria-invalid");
      const most = (page.view.end - page.view.start) * 0.8;
      if (found.at !== null) page.showMoment(found.at, Math.min(found.until, found.at + most));
      page.highlight(found.spans);
    } catch (error) {
      this.#refused(error);
    }
  }
  #refused(error) {
    const { condition, hits } = this.page.refs;
    const { what, position, length } = error instanceof RequestError ? error.details : {};
    hits.textContent = what || error.message;
    hits.title = error.message;
    condition.setAttribute("aria-invalid", "true");
    if (what) condition.setSelectionRange(position, position + length);
  }
}

export class Replay {
  constructor(page) {
    this.page = page;
    this.frame = 0;
  }
  get playing() {
    return this.frame !== 0;
  }
  toggle() {
    if (this.playing) this.stop();
    else this.start();
  }
  #show(playing) {
    const { play } = this.page.refs;
    play.textContent = playing ? "❚❚" : "▶";
    play.setAttribute("aria-pressed", playing ? "true" : "false");
  }
  stop() {
    cancelAnimationFrame(this.frame);
    this.frame = 0;
    this.#show(false);
    this.page.remember();
  }
  start() {
    const { page } = this;
    if (page.cursor === null || page.cursor >= page.all.end - 1e-6) page.setCursor(page.view.start, true);
    this.#show(true);
    let before = performance.now();
    const step = (now) => {
      const speed = Number(page.refs.speed.value) * (page.bySpeed ? RPM_A_SECOND : 1);
      const moment = page.cursor + ((now - before) / 1000) * speed;
      before = now;
      this.#follow(moment);
      page.setCursor(moment, true);
      if (page.cursor >= page.all.end) this.stop();
      else this.frame = requestAnimationFrame(step);
    };
    this.frame = requestAnimationFrame(step);
  }
  #follow(moment) {
    const { view, all } = this.page;
    const length = view.end - view.start;
    if (moment > view.end - length * 0.08 && view.end < all.end) {
      this.page.setView(moment - length * 0.2, moment + length * 0.8);
    }
  }
}
