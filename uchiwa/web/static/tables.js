"use strict";
// Tables under edit: what is chosen and typed. Every number, limit and word comes from the server.

document.addEventListener("alpine:init", () => {
  Alpine.data("finder", () => ({
    seek(event) {
      const wanted = event.target.value.trim().toLowerCase();
      for (const one of this.$refs.list.querySelectorAll("li[data-words]")) one.hidden = !one.dataset.words.includes(wanted);
    },
    first() { this.$refs.list.querySelector("li[data-words]:not([hidden]) a")?.click(); },
  }));

  Alpine.data("tables", () => {
    // Kept outside Alpine's reach: a grid can have thousands of cells.
    const my = { by: new Map(), marked: [], active: null, chosen: [], anchor: null, last: Promise.resolve() };
    const EDGES = [["t", 0, 1], ["r", 1, 0], ["b", 0, -1], ["l", -1, 0]];

    return {
    address: "", table: "", show: "", version: 0, frozen: false, i: 0, j: 0, said: "type to edit · Enter applies · Ctrl C and V with any spreadsheet · Ctrl Z and Y · P pins · Delete gives back the revision's value", bad: false, touched: "",
    asked: 0, drawn: 0, turn: 0, expanded: false, drawerTitle: "Moments in the chosen cells", dragging: false, turned: false,

    init() {
      const root = this.$root.dataset;
      if (root.frozen === "yes") this.said = "";
      Object.assign(this, { address: root.address, table: root.table, show: root.show, version: Number(root.version), frozen: root.frozen === "yes" });
      for (const cell of this.$refs.grid.querySelectorAll("td")) my.by.set(`${cell.dataset.i}.${cell.dataset.j}`, cell);
      this.columns = this.$refs.grid.tHead.rows[0].cells.length - 1;
      this.rows = this.$refs.grid.tBodies[0].rows.length;
      this.touched = this.$root.querySelector(".policy strong")?.textContent || "";
      this.choose(Number(root.i), Number(root.j), false, true);
      const more = root.cells.split(" ").filter((one) => my.by.has(one));
      if (more.length > 1) { my.chosen = more; this.mark(); }
      if (location.hash !== "#line") this.cellAt(this.i, this.j)?.focus({ preventScroll: true });
      window.addEventListener("pointerup", () => { this.dragging = false; });
    },
    get touchedWords() { return this.touched; },
    get saidClass() { return this.bad ? "is-bad" : ""; },
    cellAt(i, j) { return my.by.get(`${i}.${j}`); },
    tell(text, bad) { this.said = text; this.bad = Boolean(bad); },

    choose(i, j, extend, quiet) {
      if (!this.cellAt(i, j)) return;
      if (!extend || !my.anchor) my.anchor = [i, j];
      this.i = i;
      this.j = j;
      const [a, b] = my.anchor;
      my.chosen = [];
      for (let y = Math.min(b, j); y <= Math.max(b, j); y++) for (let x = Math.min(a, i); x <= Math.max(a, i); x++) my.chosen.push(`${x}.${y}`);
      this.mark();
      if (!quiet) { this.cellAt(i, j).focus({ preventScroll: false }); this.explain(); }
    },
    chooseCells(cells) {
      if (!cells.length) return;
      const xs = cells.map((one) => one[0]), ys = cells.map((one) => one[1]);
      my.anchor = [Math.min(...xs), Math.max(...ys)];
      this.choose(Math.max(...xs), Math.min(...ys), true, true);
    },
    mark() {
      const chosen = new Set(my.chosen);
      for (const cell of my.marked) {
        cell.classList.remove("is-chosen", "edge-t", "edge-r", "edge-b", "edge-l");
        cell.removeAttribute("aria-selected");
        cell.marks = "";
      }
      my.marked = my.chosen.map((one) => my.by.get(one));
      for (const cell of my.marked) {
        const x = Number(cell.dataset.i), y = Number(cell.dataset.j);
        const marks = chosen.size > 1 ? ["is-chosen"] : [];
        for (const [edge, a, b] of EDGES) if (!chosen.has(`${x + a}.${y + b}`)) marks.push(`edge-${edge}`);
        cell.classList.add(...marks);
        cell.marks = ` ${marks.join(" ")}`;
        cell.setAttribute("aria-selected", "true");
      }
      if (my.active) { my.active.classList.remove("is-active"); my.active.tabIndex = -1; }
      my.active = this.cellAt(this.i, this.j);
      my.active.classList.add("is-active");
      my.active.tabIndex = 0;
      if (this.$refs.cells) {
        this.$refs.cells.value = my.chosen.join(" ");
        this.$refs.count.textContent = my.chosen.length === 1 ? "1 cell" : `${my.chosen.length} cells`;
        const column = this.$refs.grid.tHead.rows[0].cells[this.i + 1].textContent, row = my.active.parentElement.cells[0].textContent;
        this.$refs.where.textContent = this.rows > 1 ? `${column} × ${row}` : column;
      }
    },
    query(extra) { return new URLSearchParams({ table: this.table, show: this.show, i: this.i, j: this.j, ...extra }); },
    async explain() {
      const asked = ++this.asked;
      await new Promise((go) => setTimeout(go, 90));
      if (asked !== this.asked) return;
      try {
        const [margin, pictures] = await Promise.all([
          fetchPiece(`${this.address}/cell?${this.query({ chosen: my.chosen.length })}`),
          fetchPiece(`${this.address}/pictures?${this.query({ turn: this.turn })}`),
        ]);
        if (asked !== this.asked) return;
        this.put(this.$refs.margin, margin);
        this.put(this.$refs.pictures, pictures);
      } catch (error) { this.tell(error.message, true); }
      if (this.expanded) this.drawMoments();
    },
    // A piece that is replaced while the keyboard is in it keeps the focus where it was.
    put(place, piece) {
      const focusable = "a, button, input, select";
      const at = place.contains(document.activeElement) ? [...place.querySelectorAll(focusable)].indexOf(document.activeElement) : -1;
      place.innerHTML = piece;
      if (at >= 0) place.querySelectorAll(focusable)[at]?.focus({ preventScroll: true });
    },
    pull() {
      this.expanded = !this.expanded;
      if (this.expanded) return this.drawMoments();
      this.$refs.strips.classList.remove("is-up");
      this.$refs.read.hidden = true;
      return undefined;
    },
    async drawMoments() {
      this.$refs.strips.classList.add("is-up");
      try {
        const found = JSON.parse(await fetchPiece(`${this.address}/moments?${new URLSearchParams({ table: this.table, cells: my.chosen.join(" ") })}`));
        const count = found.spans.length, first = found.spans[0];
        this.drawerTitle = count ? `${count} moment${count === 1 ? "" : "s"} of ${found.name} in ${my.chosen.length === 1 ? "this cell" : "these cells"}` : `${found.name} was never here`;
        this.$refs.read.href = found.read + (first ? `&from=${Math.max(0, first[0] - 10)}&to=${first[1] + 10}&at=${first[0]}` : "");
        this.$refs.read.hidden = false;
        window.drawStrips(this.$refs.strips, found);
      } catch (error) { this.tell(error.message, true); }
    },

    press(event) {
      const cell = event.target.closest("td");
      if (!cell) return;
      event.preventDefault();
      this.dragging = true;
      this.choose(Number(cell.dataset.i), Number(cell.dataset.j), event.shiftKey);
    },
    drag(event) {
      const cell = event.target.closest("td");
      if (cell && this.dragging && cell !== my.active) this.choose(Number(cell.dataset.i), Number(cell.dataset.j), true);
    },
    key(event) {
      const command = event.ctrlKey || event.metaKey, name = event.key.toLowerCase();
      if (command && !event.altKey && (name === "z" || name === "y") && !["line", "why"].includes(event.target.name)) {
        event.preventDefault();
        return name === "y" || event.shiftKey ? this.redo() : this.undo();
      }
      if (!event.target.closest("table.grid")) return undefined;
      const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };
      const ends = { ArrowLeft: [0, this.j], ArrowRight: [this.columns - 1, this.j], ArrowUp: [this.i, this.rows - 1], ArrowDown: [this.i, 0] };
      if (steps[event.key]) {
        event.preventDefault();
        const [x, y] = command ? ends[event.key] : [this.i + steps[event.key][0], this.j + steps[event.key][1]];
        this.choose(x, y, event.shiftKey);
      } else if (event.key === "Home" || event.key === "End") {
        event.preventDefault();
        this.choose(event.key === "Home" ? 0 : this.columns - 1, command ? (event.key === "Home" ? this.rows - 1 : 0) : this.j, event.shiftKey);
      } else if (command && name === "a") {
        event.preventDefault();
        my.anchor = [0, 0];
        this.choose(this.columns - 1, this.rows - 1, true);
      } else if (event.key === "Escape") {
        this.choose(this.i, this.j, false);
        this.tell("");
      } else if (this.frozen || command || event.altKey) {
        return undefined;
      } else if (name === "p") {
        event.preventDefault();
        this.pinChosen();
      } else if (event.key === "Delete" || event.key === "Backspace") {
        event.preventDefault();
        this.send("edit", { line: "was" });
      } else if (event.key === "Enter") {
        event.preventDefault();
        this.startLine();
      } else if (event.key.length === 1 && event.key !== " ") {
        event.preventDefault();
        this.$refs.line.value = event.key;
        this.startLine();
      }
      return undefined;
    },
    startLine() {
      if (this.frozen) return;
      const line = this.$refs.line;
      line.focus();
      line.setSelectionRange(line.value.length, line.value.length);
    },
    lineKey(event) {
      if (event.key !== "Escape") return;
      event.preventDefault();
      event.stopPropagation();
      this.$refs.line.value = "";
      this.tell("");
      my.active.focus();
    },
    write(event) {
      this.$refs.line.value = event.target.dataset.words;
      this.startLine();
    },
    async apply() {
      const line = this.$refs.line.value;
      if (await this.send("edit", { line })) {
        this.$refs.line.value = "";
        my.active.focus({ preventScroll: true });
      } else this.$refs.line.focus();
    },

    copy(event) {
      if (!document.activeElement?.closest("table.grid")) return;
      event.preventDefault();
      const xs = my.chosen.map((one) => Number(one.split(".")[0])), ys = my.chosen.map((one) => Number(one.split(".")[1]));
      const lines = [];
      for (let y = Math.max(...ys); y >= Math.min(...ys); y--) {
        const line = [];
        for (let x = Math.min(...xs); x <= Math.max(...xs); x++) line.push(this.cellAt(x, y).textContent.replace("−", "-"));
        lines.push(line.join("\t"));
      }
      event.clipboardData.setData("text/plain", lines.join("\n"));
      this.tell(`${my.chosen.length} cells copied`);
    },
    async paste(event) {
      if (this.frozen || event.target.closest?.("input, textarea, select")) return;
      event.preventDefault();
      const joining = this.$refs.joining.value;
      const answer = await this.send("paste", { text: event.clipboardData.getData("text/plain"), joining });
      if (answer) this.chooseCells(answer.chosen || []);
    },
    undo() { return this.send("undo", {}); },
    redo() { return this.send("redo", {}); },
    pinChosen() { return this.send("pin", {}); },

    // Edits go out one after the other, each with the version the last one left.
    send(what, fields) {
      if (this.frozen) return Promise.resolve(null);
      const cells = my.chosen.join(" "), why = this.$refs.why.value;
      const go = () => this.sendNow(what, { cells, why, ...fields });
      const sent = my.last.then(go, go);
      my.last = sent;
      return sent;
    },
    async sendNow(what, fields) {
      const body = new FormData();
      for (const [name, value] of Object.entries({ table: this.table, version: this.version, show: this.show, ...fields })) body.set(name, value);
      try {
        const answer = JSON.parse(await fetchPiece(`${this.address}/${what}`, { body }));
        if (answer.reload) { location.reload(); return null; }
        this.take(answer);
        this.explain();
        return answer;
      } catch (error) { this.tell(error.message, true); return null; }
    },
    take(answer) {
      const start = performance.now();
      this.version = answer.version;
      for (const [i, j, text, classes] of answer.cells) {
        const cell = my.by.get(`${i}.${j}`);
        if (cell.firstChild) { if (cell.firstChild.data !== text) cell.firstChild.data = text; } else cell.textContent = text;
        cell.className = `${classes}${cell.marks || ""}${cell === my.active ? " is-active" : ""}`;
      }
      for (const one of this.$root.querySelectorAll('input[name="version"]')) one.value = answer.version;
      this.touched = answer.touched === 1 ? "1 cell" : `${answer.touched} cells`;
      this.tell(answer.said);
      window.lastRedraw = { cells: answer.cells.length, ms: performance.now() - start };
    },

    pick(event) {
      const piece = event.target.closest("svg [data-i]");
      if (piece && !this.turned) this.choose(Number(piece.dataset.i), Number(piece.dataset.j), false);
      this.turned = false;
    },
    turnTo(event) { this.turn = Number(event.target.dataset.turn); return this.redrawPictures(); },
    grab(event) {
      const start = event.clientX, from = this.turn;
      const move = (now) => {
        const turn = (((from + Math.round((now.clientX - start) / 18)) % 24) + 24) % 24;
        if (turn === this.turn) return;
        this.turned = true;
        this.turn = turn;
        this.redrawPictures();
      };
      window.addEventListener("pointermove", move);
      window.addEventListener("pointerup", () => window.removeEventListener("pointermove", move), { once: true });
    },
    async redrawPictures() {
      const drawn = ++this.drawn;
      try {
        const piece = await fetchPiece(`${this.address}/pictures?${this.query({ turn: this.turn })}`);
        if (drawn === this.drawn) this.put(this.$refs.pictures, piece);
      } catch (error) { this.tell(error.message, true); }
    },
    };
  });
});
