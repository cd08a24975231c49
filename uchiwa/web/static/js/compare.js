// Comparison: which cells are chosen, so that only those are taken across.

import { plural } from "./lib/figures.js";
import { registerPage } from "./lib/page.js";
import { SelectableGrid } from "./lib/selectable_grid.js";

class ComparePage {
  constructor(root, refs) {
    this.root = root;
    this.refs = refs;
    if (!refs.grid) return;
    this.grid = new SelectableGrid({
      chosen: (selection) => this.choose(selection.count, selection.text),
      letGo: () => this.choose(0, ""),
    });
    this.grid.attach(refs.grid);
  }
  choose(count, text) {
    const words = count ? plural(count, "chosen cell") : "the whole table";
    this.grid.table.classList.toggle("has-chosen", count > 0);
    for (const field of this.root.querySelectorAll(".taken-cells")) field.value = text;
    for (const place of this.root.querySelectorAll(".taken-count")) place.textContent = words;
  }
  go() {
    this.refs.sides.submit();
  }
}

registerPage("compare", ComparePage);
