// Words between tuner and driver.

import { replaceFragment } from "../lib/fragments.js";
import { fetchFragment } from "../lib/http.js";
import { showError } from "../lib/message.js";

export class Words {
  constructor(refs, address) {
    this.refs = refs;
    this.address = address;
  }
  async write(event) {
    const form = event.target;
    if (!this.refs.text.value.trim()) return;
    try {
      replaceFragment(this.refs.messages, await fetchFragment(form.action, { body: new FormData(form) }));
      this.refs.text.value = "";
    } catch (error) {
      showError(error);
    }
  }
  async fetch() {
    try {
      replaceFragment(this.refs.messages, await fetchFragment(`${this.address}/messages`));
    } catch (error) {
      showError(error);
    }
  }
}
