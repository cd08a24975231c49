// The exact values at the cursors while the page is paused; one request at a time.

import { fetchJson } from "../lib/http.js";
import { showError } from "../lib/message.js";

export class CursorValues {
  constructor(page) {
    this.page = page;
    this.busy = false;
  }
  async fetch() {
    const { page } = this;
    if (this.busy || page.following || !page.plan) return;
    this.busy = true;
    const keys = page.traces().map((trace) => trace.key);
    const asked = { key: keys, at: page.cursor ?? page.view.end, other: page.second };
    try {
      page.values = await fetchJson(`${page.read}/at?${page.query(asked)}`);
      page.valueTable.draw();
    } catch (error) {
      showError(error);
    }
    this.busy = false;
    if (!page.following && page.cursor !== null && asked.at !== page.cursor) this.fetch();
  }
}
