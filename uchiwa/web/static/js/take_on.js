// Taking on a car: what it would start with, shown as it is chosen. The rules are the server's.

import { latestOnly, replaceFragment } from "./lib/fragments.js";
import { fetchFragment } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";

const ASKED = [
  "start",
  "car_file",
  "displacement",
  "injector_flow",
  "injector_dead_time",
  "stoichiometric_ratio",
  "spark_down",
  "spark_why",
  "pressure_sensor",
];

class TakeOnPage {
  constructor(_root, refs) {
    this.refs = refs;
    this.latest = latestOnly(150);
    // What was typed before this page could listen.
    if (ASKED.some((name) => this.refs.form.elements[name]?.value)) this.#show();
  }
  look(event) {
    if (ASKED.includes(event.target.name)) this.#show();
  }
  async #show() {
    const asked = new URLSearchParams();
    for (const name of ASKED) {
      const value = this.refs.form.elements[name]?.value;
      if (value) asked.set(name, value);
    }
    try {
      const html = await this.latest(() => fetchFragment(`/jobs/new?${asked}`));
      if (html !== undefined) replaceFragment(this.refs.start, html);
    } catch (error) {
      showError(error);
    }
  }
}

registerPage("takeOn", TakeOnPage);
