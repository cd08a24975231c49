// The lists of moments and notes, and writing a note at the cursor.

import { button, element } from "../lib/elements.js";
import { clockText } from "../lib/figures.js";
import { fetchJson, formData } from "../lib/http.js";
import { showError } from "../lib/message.js";

const LONG_S = 60;

export class Notes {
  constructor(page) {
    this.page = page;
  }
  draw() {
    const events = this.page.events();
    const nothing = element("li", "second", "No drive, finding, marker or note in this log.");
    this.page.refs.moments.replaceChildren(...(events.length ? events.map((event) => this.#moment(event)) : [nothing]));
    const notes = this.page.plan.logs.flatMap((log) => log.notes.map((note) => this.#note(log, note)));
    this.page.refs.notes.replaceChildren(...notes);
  }
  #moment(event) {
    const row = element("li", `is-${event.kind}`);
    const go = button("", () => this.page.showMoment(event.start, event.end));
    const time = clockText(event.start, event.end - event.start < LONG_S ? 1 : 0);
    go.append(element("span", "num", time), element("i", "bar-mark"), element("b", "", event.words));
    if (event.more) go.append(element("small", "second", event.more));
    row.append(go);
    return row;
  }
  #note(log, note) {
    const row = element("li", "is-note");
    const go = button("", () => this.page.showMoment(note.start - log.offset, note.end - log.offset));
    go.append(element("span", "num", clockText(note.start, 1)), element("b", "", note.text));
    const link = element("a", "", "link");
    link.href = `${this.page.plan.address}?log=${log.id}&note=${note.id}`;
    const act = (text, what) => button(text, () => this.#change(log, note, what), { className: "plain link" });
    const show = act(
      note.shown ? "shown to the customer: hide it" : "show it to the customer",
      note.shown ? "hide" : "show",
    );
    const foot = element("span", "note-foot second");
    foot.append(`${note.author} · `, link, " · ", show, " · ", act("delete", "drop"));
    row.append(go, foot);
    return row;
  }
  async #change(log, note, act) {
    try {
      const body = formData({ do: act });
      log.notes = await fetchJson(`${this.page.plan.address}/notes/${log.id}/${note.id}`, { body });
      this.#redraw();
    } catch (error) {
      showError(error);
    }
  }
  async write() {
    const { page } = this;
    const { refs } = page;
    const [log] = page.plan.logs;
    const start = (page.cursor ?? page.view.start) + log.offset;
    const end = page.second === null ? start : page.second + log.offset;
    const body = formData({ start, end, text: refs.noteText.value });
    if (refs.noteShown.checked) body.set("shown", "yes");
    try {
      log.notes = await fetchJson(`${page.plan.address}/notes/${log.id}`, { body });
      refs.noteText.value = "";
      this.#redraw();
      page.overview.draw();
    } catch (error) {
      showError(error);
    }
  }
  #redraw() {
    this.page.overview.forgetLanes();
    this.draw();
    this.page.draw();
  }
  /** Says at which moment a note would be written. */
  sayMoment() {
    const { cursor, second, refs, bySpeed } = this.page;
    if (bySpeed || cursor === null) {
      refs.noteAt.textContent = "";
      return;
    }
    const text = (moment) => this.page.momentText(moment);
    const from = second === null ? cursor : Math.min(cursor, second);
    const pair = second === null ? "" : ` to ${text(Math.max(cursor, second))}`;
    refs.noteAt.textContent = pair ? `from ${text(from)}${pair}` : `at ${text(from)}`;
  }
}
