// Tables under edit, and the list that finds one.

import { registerPage } from "./lib/page.js";
import { TableEditor } from "./tables/editor.js";

class TableFinder {
  constructor(_root, refs) {
    this.refs = refs;
  }
  seek(event) {
    const wanted = event.target.value.trim().toLowerCase();
    for (const item of this.refs.list.querySelectorAll("li[data-words]")) {
      item.hidden = !item.dataset.words.includes(wanted);
    }
  }
  first() {
    this.refs.list.querySelector("li[data-words]:not([hidden]) a")?.click();
  }
}

registerPage("finder", TableFinder);
registerPage("tables", TableEditor);
