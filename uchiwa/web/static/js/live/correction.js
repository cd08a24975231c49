// The correction of a session: its limits while it runs, the overlay in the car, and what is taken of it at the end.

import { replaceFragment } from "../lib/fragments.js";
import { fetchFragment, fetchJson, formData } from "../lib/http.js";
import { showError } from "../lib/message.js";
import { countCells, SelectableGrid } from "../lib/selectable_grid.js";

export class Correction {
  constructor(page) {
    this.page = page;
    this.corrected = null;
    this.cells = new SelectableGrid({ chosen: (selection) => this.cellsChosen(selection) });
  }
  /** The correction of a session that is over: its cells on the sheet, what can be done with them in the margin. */
  async fetch() {
    try {
      replaceFragment(this.page.refs.correctionBox, await fetchFragment(`${this.page.address}/correction`));
    } catch (error) {
      showError(error);
      return;
    }
    const drawn = this.page.refs.correctionBox.querySelector("table.grid");
    this.corrected?.remove();
    this.corrected = drawn;
    if (!drawn) {
      this.page.refs.grid.hidden = false;
      return;
    }
    this.page.refs.gridBox.append(drawn);
    this.cells.attach(drawn);
    this.page.showView("change");
    this.page.showPanel("correction");
  }

  async changeLimits() {
    try {
      const form = this.page.refs.limitsBox.querySelector("form");
      replaceFragment(this.page.refs.limitsBox, await fetchFragment(form.action, { body: new FormData(form) }));
      this.showOverlay();
      if (this.page.root.dataset.standing === "ready") await this.fetch();
    } catch (error) {
      showError(error);
    }
  }
  showOverlay() {
    const { standing, refs } = this.page;
    const corrects = refs.limitsBox.querySelector('select[name="on"]')?.value === "true";
    refs.overlayBox.hidden = !standing?.running || !corrects;
    if (!standing) return;
    refs.overlayButton.textContent = standing.wanted ? "Send it no more" : "Send it to the car";
    const driven = standing.acknowledged
      ? `The car drives by overlay ${standing.acknowledged}.`
      : "The car drives by its own calibration.";
    const leave = standing.allowed
      ? "The driver allows it."
      : "The driver has not allowed it yet: the switch is on the phone’s page.";
    refs.overlaySaid.textContent = standing.wanted
      ? `${leave} ${driven}`
      : "In steps of 2 %, within the limits, and only if the driver allows it on the phone.";
  }
  async switchOverlay() {
    try {
      await fetchJson(`${this.page.address}/overlay`, { body: formData({ wanted: !this.page.standing?.wanted }) });
    } catch (error) {
      showError(error);
    }
  }
  cellsChosen(selection) {
    this.corrected?.classList.add("has-chosen");
    const button = this.page.refs.correctionBox.querySelector("[x-ref=takeChosen]");
    if (!button) return;
    button.disabled = false;
    button.textContent = `Take the chosen: ${countCells(selection.count)}`;
  }
  takeCells(event) {
    const all = event.submitter?.dataset.all === "yes";
    event.target.querySelector('[name="cells"]').value = all ? "" : this.cells.selection.text;
  }
  /** Shows the correction of a session that is over in the place of what its cells have seen, or no longer. */
  show(on) {
    if (!this.corrected) return;
    this.corrected.hidden = !on;
    this.page.refs.grid.hidden = on;
  }
}
