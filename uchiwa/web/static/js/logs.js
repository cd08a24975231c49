// The Logs station: files dropped or chosen are sent; the list follows while they are read.

import { replaceFragment } from "./lib/fragments.js";
import { fetchFragment } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";
import { sendFiles } from "./lib/upload.js";

const LOOK_AGAIN_MS = 700;

class LogsPage {
  constructor(root, refs) {
    this.root = root;
    this.refs = refs;
    this.follow();
  }
  over(event) {
    event.currentTarget.classList.add("is-over");
  }
  away(event) {
    event.currentTarget.classList.remove("is-over");
  }
  dropped(event) {
    this.away(event);
    this.refs.files.files = event.dataTransfer.files;
    return this.send();
  }
  isReading() {
    return this.refs.list.querySelector("#log-list").dataset.reading === "yes";
  }
  async redraw() {
    const address = `${this.root.dataset.address}${location.search}`;
    replaceFragment(this.refs.list, await fetchFragment(address, { fragment: "list" }));
  }
  follow() {
    if (!this.isReading()) return;
    setTimeout(async () => {
      try {
        await this.redraw();
        if (this.isReading()) this.follow();
        else location.reload();
      } catch (error) {
        showError(error);
      }
    }, LOOK_AGAIN_MS);
  }
  async send() {
    const files = [...this.refs.files.files];
    if (!files.length) return;
    this.refs.files.value = "";
    const { address } = this.root.dataset;
    if (await sendFiles(address, files, this.refs.sending)) location.assign(address);
    else {
      await this.redraw();
      this.follow();
    }
  }
}

registerPage("logs", LogsPage);
