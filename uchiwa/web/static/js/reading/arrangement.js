// Which logs and traces are open: strips added, moved and kept by name, logs laid beside each other.

import { fetchBytes, fetchJson, formData } from "../lib/http.js";
import { showError } from "../lib/message.js";

export class Arrangement {
  constructor(page) {
    this.page = page;
  }
  async reload(show, changes = {}) {
    this.page.root.dataset.ready = "no";
    const found = this.page.query({}, show);
    for (const [key, value] of Object.entries(changes)) {
      found.delete(key);
      for (const part of [value].flat()) found.append(key, part);
    }
    try {
      const plan = await fetchJson(`${this.page.plan.address}?${found}`);
      const moved = plan.by !== this.page.plan.by || "place" in changes || "log" in changes;
      this.page.plan = plan;
      this.page.hidden = new Set([...this.page.hidden].filter((id) => plan.logs.some((log) => log.id === id)));
      await this.page.begin(moved ? null : this.page.view);
    } catch (error) {
      this.page.root.dataset.ready = "yes";
      showError(error);
    }
  }
  async change(act, key) {
    try {
      await this.reload((await this.page.ask("arrange", { do: act, key })).show);
    } catch (error) {
      showError(error);
    }
  }
  fillPurposes() {
    const { refs, plan, root } = this.page;
    refs.kept.replaceChildren(...plan.kept.map((name) => new Option(name, name)));
    refs.kept.hidden = !plan.kept.length;
    refs.purpose.value = plan.arrangement;
    refs.dropButton.hidden = !plan.kept.includes(plan.arrangement);
    const traces = JSON.parse(root.dataset.traces || "null") || this.page.traces();
    for (const select of root.querySelectorAll(".cloud-form select")) {
      const before = select.value;
      const nothing = select.name === "colour" ? [new Option("nothing", "")] : [];
      select.replaceChildren(...nothing, ...traces.map((trace) => new Option(trace.title, trace.key)));
      if (before) select.value = before;
    }
  }
  layBeside() {
    const { beside } = this.page.refs;
    const id = beside.value;
    beside.value = "";
    if (!id) return undefined;
    const { logs, by } = this.page.plan;
    const pulls = logs.length === 1 && by === "time" && logs[0].drives.some(({ kind }) => kind.includes("pull"));
    return this.reload(this.page.plan.show, {
      log: [...logs.map((log) => log.id), id],
      ...(pulls ? { by: "pull" } : {}),
    });
  }
  async keep() {
    const { keepName } = this.page.refs;
    try {
      const body = formData({ name: keepName.value, show: this.page.plan.show });
      const { name } = await fetchJson(`${this.page.plan.address}/keep`, { body });
      keepName.value = "";
      await this.reload(name);
    } catch (error) {
      showError(error);
    }
  }
  async drop() {
    try {
      const body = formData({ name: this.page.plan.arrangement, drop: "yes" });
      await fetchBytes(`${this.page.plan.address}/keep`, { body });
      await this.reload(this.page.plan.show);
    } catch (error) {
      showError(error);
    }
  }
}
