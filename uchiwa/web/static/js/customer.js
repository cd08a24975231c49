// The customer's page: files are sent from anywhere on it, and what is still wanted follows while they are read.

import { replaceFragment } from "./lib/fragments.js";
import { fetchFragment } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";
import { sendFiles } from "./lib/upload.js";

const LOOK_AGAIN_MS = 800;

class CustomerPage {
  constructor(root, refs) {
    this.root = root;
    this.refs = refs;
    this.timer = 0;
    this.words = JSON.parse(root.dataset.words);
    this.follow();
  }
  over() {
    document.body.classList.add("is-over-page");
  }
  dropped(event) {
    document.body.classList.remove("is-over-page");
    this.send([...event.dataTransfer.files]);
  }
  chosen() {
    const files = [...this.refs.files.files];
    this.refs.files.value = "";
    return this.send(files);
  }
  async send(files) {
    if (!files.length) return;
    await sendFiles(this.root.dataset.address, files, this.refs.sending, this.words.broke_off);
    await this.refresh();
  }
  async refresh() {
    replaceFragment(this.refs.state, await fetchFragment(this.root.dataset.address, { fragment: "state" }));
    document.querySelector(".phone-head p").textContent = this.refs.state.querySelector("#state").dataset.head;
    this.follow();
  }
  follow() {
    clearTimeout(this.timer);
    if (this.refs.state.querySelector("#state").dataset.reading !== "yes") return;
    this.timer = setTimeout(() => this.refresh().catch(showError), LOOK_AGAIN_MS);
  }
  async drive(event) {
    const { go } = this.refs;
    const words = go.textContent;
    go.disabled = true;
    go.textContent = this.words.driving;
    try {
      await fetchFragment(event.target.action, { body: new FormData(event.target) });
      await this.refresh();
    } catch (error) {
      showError(error);
    }
    go.disabled = false;
    go.textContent = words;
  }
}

registerPage("customer", CustomerPage);
