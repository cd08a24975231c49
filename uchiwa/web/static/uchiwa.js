"use strict";
// Page state only: what is chosen, what is shown. Every rule and number comes from the server.

const csrf = () => document.querySelector('meta[name="csrf"]').content;

async function fetchPiece(address, options = {}) {
  const headers = { "X-Fragment": options.fragment || "yes", "X-CSRF": csrf() };
  const answer = await fetch(address, { method: options.body ? "POST" : "GET", body: options.body, headers });
  const text = await answer.text();
  if (!answer.ok) {
    let told = { said: text };
    try { told = JSON.parse(text); } catch { /* plain text says it itself */ }
    throw Object.assign(new Error(told.said || "The server could not be reached."), told);
  }
  return text;
}

function tell(text) {
  let line = document.querySelector(".said");
  if (!line) {
    line = document.createElement("p");
    line.setAttribute("role", "status");
    document.querySelector(".head").after(line);
  }
  line.className = "said is-bad";
  line.textContent = text;
  clearTimeout(tell.timer);
  tell.timer = setTimeout(() => line.remove(), 12_000);
}

document.addEventListener("alpine:init", () => {
  Alpine.data("fuel", () => ({
    address: "", table: "", view: "", shape: "grid", turn: 0, reason: "", i: 0, j: 0, anchor: null, chosen: [], expanded: false,
    drawerTitle: "Moments that fed this cell", asked: 0, dragging: false,

    init() {
      const root = this.$root.dataset;
      this.address = root.address;
      this.table = root.table;
      this.view = root.view;
      this.shape = root.shape;
      if (root.drawer) this.drawerTitle = root.drawer;
      this.choose(Number(root.i), Number(root.j), false, true);
      window.addEventListener("pointerup", () => { this.dragging = false; });
      this.expanded = localStorage.getItem("uchiwa-drawer") === "up";
      if (this.expanded) this.drawMoments();
    },
    cells() { return this.$refs.grid ? [...this.$refs.grid.querySelectorAll("td")] : []; },
    cellAt(i, j) { return this.$refs.grid?.querySelector(`td[data-i="${i}"][data-j="${j}"]`); },
    query(extra) { return new URLSearchParams({ table: this.table, shape: this.shape, turn: this.turn, ...extra }); },
    looking(extra) { return this.query({ view: this.view, cell: `${this.i}.${this.j}`, ...extra }); },

    choose(i, j, extend, quiet) {
      if (this.$refs.grid && !this.cellAt(i, j)) return;
      this.reason = "";
      if (!extend || !this.anchor) this.anchor = [i, j];
      this.i = i;
      this.j = j;
      const [a, b] = this.anchor;
      this.chosen = [];
      for (let x = Math.min(a, i); x <= Math.max(a, i); x++) {
        for (let y = Math.min(b, j); y <= Math.max(b, j); y++) this.chosen.push(`${x}.${y}`);
      }
      this.mark(!quiet);
      if (!quiet) this.explain();
    },
    chooseAll() {
      this.chosen = this.cells().map((cell) => `${cell.dataset.i}.${cell.dataset.j}`);
      this.mark(true);
      this.explain();
    },
    mark(focus) {
      const chosen = new Set(this.chosen);
      for (const cell of this.cells()) {
        const is = chosen.has(`${cell.dataset.i}.${cell.dataset.j}`);
        cell.classList.toggle("is-chosen", is && chosen.size > 1);
        for (const [edge, x, y] of [["t", 0, 1], ["r", 1, 0], ["b", 0, -1], ["l", -1, 0]]) {
          cell.classList.toggle(`edge-${edge}`, is && !chosen.has(`${Number(cell.dataset.i) + x}.${Number(cell.dataset.j) + y}`));
        }
        cell.setAttribute("aria-selected", is ? "true" : "false");
        cell.classList.remove("is-active");
        cell.tabIndex = -1;
      }
      if (this.$refs.at) this.$refs.at.value = `${this.i}.${this.j}`;
      const active = this.cellAt(this.i, this.j);
      if (!active) return;
      active.classList.add("is-active");
      active.tabIndex = 0;
      if (focus) active.focus({ preventScroll: true });
      this.$refs.count.textContent = this.chosen.length === 1 ? "1 cell" : `${this.chosen.length} cells`;
    },
    async explain() {
      const asked = ++this.asked;
      await new Promise((go) => setTimeout(go, 60));
      if (asked !== this.asked) return;
      try {
        const piece = await fetchPiece(`${this.address}/cell?${this.query({ i: this.i, j: this.j, chosen: this.chosen.length })}`);
        if (asked !== this.asked) return;
        this.$refs.margin.innerHTML = piece;
        this.$refs.address.textContent = this.$refs.margin.querySelector("h2").textContent;
      } catch (error) { tell(error.message); }
      if (this.expanded) this.drawMoments();
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
      if (cell && this.dragging) this.choose(Number(cell.dataset.i), Number(cell.dataset.j), true);
    },
    key(event) {
      if (!event.target.closest("table.grid")) return;
      const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };
      if (steps[event.key] && !event.ctrlKey) {
        event.preventDefault();
        const [x, y] = steps[event.key];
        this.choose(this.i + x, this.j + y, event.shiftKey);
      } else if (event.key === "Home" || event.key === "End") {
        event.preventDefault();
        const columns = this.$refs.grid.tHead.rows[0].cells.length - 1;
        this.choose(event.key === "Home" ? 0 : columns - 1, this.j, event.shiftKey);
      } else if (event.key.toLowerCase() === "a" && (event.ctrlKey || event.metaKey)) {
        event.preventDefault();
        this.chooseAll();
      } else if (event.key.toLowerCase() === "p" && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        this.pinChosen();
      } else if (event.key === "Escape") {
        this.choose(this.i, this.j, false);
      }
    },

    async replaceSheet(promise) {
      try {
        const piece = await promise;
        const active = document.activeElement;
        const inGrid = Boolean(this.$refs.grid?.contains(active));
        const control = this.$refs.policy.contains(active) ? active.name : "";
        this.$refs.sheet.innerHTML = piece;
        await this.$nextTick();
        this.mark(inGrid);
        if (control) this.$refs.policy.elements[control]?.focus();
        this.explain();
      } catch (error) { tell(error.message); }
    },
    show(event) {
      this.view = event.target.dataset.view;
      return this.redraw();
    },
    redraw() {
      history.replaceState(null, "", `?${this.looking()}`);
      return this.replaceSheet(fetchPiece(`${this.address}?${this.looking()}`));
    },
    draw(event) { this.shape = event.target.dataset.shape; return this.redraw(); },
    turnTo(event) { this.turn = Number(event.target.dataset.turn); return this.redraw(); },
    chooseRow(event) { this.choose(this.i, Number(event.target.dataset.j), false, true); return this.redraw(); },
    pick(event) {
      const piece = event.target.closest("svg [data-i]");
      if (!piece) return;
      this.choose(Number(piece.dataset.i), Number(piece.dataset.j), false, true);
      for (const one of this.$refs.sheet.querySelectorAll("svg .is-active")) one.classList.remove("is-active");
      piece.classList.add("is-active");
      this.explain();
    },
    changePolicy() {
      return this.replaceSheet(fetchPiece(`${this.address}/policy`, { body: new FormData(this.$refs.policy) }));
    },
    async switchRule(event) {
      const form = event.target.closest("form");
      const body = new FormData(form);
      body.set("on", form.querySelector('input[type="checkbox"]').checked ? "true" : "false");
      await this.replaceSheet(fetchPiece(form.getAttribute("action"), { body }));
      this.$refs.rules.hidden = false;
    },
    async addCondition(event) {
      const form = event.target.closest("form");
      await this.replaceSheet(fetchPiece(form.getAttribute("action"), { body: new FormData(form) }));
      this.$refs.rules.hidden = false;
    },
    async showLeftOut(event) {
      this.reason = event.target.dataset.reason;
      this.expanded = true;
      await this.drawMoments();
    },
    openPart(event) {
      const part = event.target.closest("button");
      const rules = this.$refs.rules;
      const same = part.classList.contains("is-open");
      rules.hidden = same;
      for (const one of this.$refs.sheet.querySelectorAll(".sieve-part, .sieve-rule")) {
        one.classList.toggle("is-open", !same && (one.dataset.part || one.dataset.rule) === part.dataset.part);
      }
    },
    pinChosen() {
      const body = new FormData();
      body.set("cells", this.chosen.join(" "));
      body.set("view", this.view);
      body.set("table", this.table);
      return this.replaceSheet(fetchPiece(`${this.address}/pin`, { body }));
    },
    takeAll() { this.$refs.taken.value = ""; },
    takeChosen() { this.$refs.taken.value = this.chosen.join(" "); },

    pull() {
      this.expanded = !this.expanded;
      localStorage.setItem("uchiwa-drawer", this.expanded ? "up" : "down");
      if (this.expanded) this.drawMoments();
      else { this.$refs.strips.classList.remove("is-up"); this.$refs.read.hidden = true; }
    },
    async drawMoments() {
      this.$refs.strips.classList.add("is-up");
      try {
        const asked = this.reason ? `left-out?${this.query({ reason: this.reason })}` : `moments?${this.query({ i: this.i, j: this.j })}`;
        const moments = JSON.parse(await fetchPiece(`${this.address}/${asked}`));
        const count = moments.spans.length, noun = count === 1 ? "moment" : "moments";
        this.drawerTitle = this.reason ? `${count} ${noun} of ${moments.name}: ${moments.title}` : `${count} ${noun} of ${moments.name} fed this cell`;
        const around = moments.spans.length ? `&from=${Math.max(0, moments.spans[0][0] - 10)}&to=${moments.spans[0][1] + 10}&at=${moments.spans[0][0]}` : "";
        this.$refs.read.href = moments.read + around;
        this.$refs.read.hidden = false;
        window.drawStrips(this.$refs.strips, moments);
      } catch (error) { tell(error.message); }
    },
  }));

  Alpine.data("channels", () => ({
    timer: null, asked: 0,
    typed(event) {
      if (event.target.name === "title") return;
      clearTimeout(this.timer);
      this.timer = setTimeout(async () => {
        const asked = ++this.asked;
        try {
          const piece = await fetchPiece("/shop/channels/try", { body: new FormData(this.$refs.form) });
          if (asked === this.asked) this.$refs.tried.innerHTML = piece;
        } catch (error) { tell(error.message); }
      }, 220);
    },
  }));

  Alpine.data("logs", () => ({
    timer: null,
    drop: {
      ["x-on:dragover.prevent"]() { this.$el.classList.add("is-over"); },
      ["x-on:dragleave"]() { this.$el.classList.remove("is-over"); },
      ["x-on:drop.prevent"](event) {
        this.$el.classList.remove("is-over");
        this.$refs.files.files = event.dataTransfer.files;
        this.send();
      },
      ["x-on:submit.prevent"]() { this.send(); },
    },
    init() { this.follow(); },
    follow() {
      const list = this.$refs.list.querySelector("#log-list");
      if (list.dataset.reading !== "yes") return;
      this.timer = setTimeout(async () => {
        try {
          const piece = await fetchPiece(`${this.$root.dataset.address}${location.search}`, { fragment: "list" });
          this.$refs.list.innerHTML = piece;
          if (this.$refs.list.querySelector("#log-list").dataset.reading !== "yes") location.reload();
          else this.follow();
        } catch (error) { tell(error.message); }
      }, 700);
    },
    async send() {
      const files = [...this.$refs.files.files];
      if (!files.length) return;
      this.$refs.files.value = "";
      const fine = await window.sendFiles(this.$root.dataset.address, files, this.$refs.sending);
      if (fine) location.assign(this.$root.dataset.address);
      else await this.refresh();
    },
    async refresh() {
      const piece = await fetchPiece(`${this.$root.dataset.address}${location.search}`, { fragment: "list" });
      this.$refs.list.innerHTML = piece;
      this.follow();
    },
  }));
});
