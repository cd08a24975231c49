// Computed channels: what is typed is tried on a log while it is typed.

import "./lib/completion.js";
import { latestOnly, replaceFragment } from "./lib/fragments.js";
import { fetchFragment } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";

const TRY_AFTER_MS = 220;

class ChannelsPage {
  constructor(_root, refs) {
    this.refs = refs;
    this.latest = latestOnly(TRY_AFTER_MS);
  }
  async typed(event) {
    if (event.target.name === "title") return;
    try {
      const html = await this.latest(() => fetchFragment("/shop/channels/try", { body: new FormData(this.refs.form) }));
      if (html !== undefined) replaceFragment(this.refs.tried, html);
    } catch (error) {
      showError(error);
    }
  }
}

registerPage("channels", ChannelsPage);
