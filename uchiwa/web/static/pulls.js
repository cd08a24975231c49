"use strict";
// Reading values off the pulls: a cursor over all bands, and a table of the differences. Values come from the server.

document.addEventListener("alpine:init", () => {
  Alpine.data("pulls", () => ({
    data: null, at: -1, asking: "", noted: "", turn: Promise.resolve(),
    init() { this.read(); },
    read() {
      const told = document.getElementById("pull-readings");
      this.data = told ? JSON.parse(told.textContent) : null;
      this.at = -1;
    },
    point(event) {
      if (!this.data) return;
      const box = this.$refs.drawing.getBoundingClientRect();
      const x = (event.clientX - box.left) / box.width * this.data.width;
      const share = (x - this.data.left) / (this.data.right - this.data.left);
      this.show(Math.round(share * (this.data.speeds.length - 1)));
    },
    step(event) {
      const by = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 }[event.key];
      if (!by || !this.data) return;
      event.preventDefault();
      this.show(this.at < 0 ? Math.floor(this.data.speeds.length / 2) : this.at + by);
    },
    leave() { if (document.activeElement !== this.$refs.drawing) this.$refs.cursor.setAttribute("visibility", "hidden"); },
    show(at) {
      const data = this.data, last = data.speeds.length - 1;
      this.at = Math.min(Math.max(at, 0), last);
      const x = data.left + (data.right - data.left) * this.at / last;
      const cursor = this.$refs.cursor;
      cursor.setAttribute("x1", x);
      cursor.setAttribute("x2", x);
      cursor.setAttribute("visibility", "visible");
      const table = document.createElement("table");
      const head = table.createTHead().insertRow();
      const cell = (row, text, heading) => {
        const one = document.createElement(heading ? "th" : "td");
        one.textContent = text;
        row.append(one);
      };
      cell(head, `${data.speeds[this.at]} rpm`, true);
      for (const curve of data.curves) cell(head, curve.title, true);
      const body = table.createTBody();
      data.names.forEach((name, row) => {
        const line = body.insertRow();
        cell(line, String(row + 1), true);
        for (const curve of data.curves) {
          const value = curve.rows[row][this.at], first = curve.rows[0][this.at];
          const digits = curve.digits;
          let text = value === null ? "–" : value.toFixed(digits);
          if (row > 0 && value !== null && first !== null) {
            const change = value - first;
            text += ` (${change < 0 ? "−" : "+"}${Math.abs(change).toFixed(digits)})`;
          }
          cell(line, text);
        }
      });
      this.$refs.table.replaceChildren(table);
    },
    // One after the other, so that what is shown last is what was asked last.
    replace(address, body) {
      this.turn = this.turn.then(() => this.replaceNow(address, body));
      return this.turn;
    },
    async replaceNow(address, body) {
      // Enter in a field is a change and a submission of the same: one of them is enough.
      const same = address + JSON.stringify([...body]);
      if (same === this.asking) return;
      this.asking = same;
      try {
        const active = document.activeElement;
        const name = active && active.form ? active.name : "";
        const pull = active?.form?.elements.pull?.value;
        const place = document.scrollingElement.scrollTop;
        this.$refs.page.innerHTML = await fetchPiece(address, { body });
        this.read();
        await this.$nextTick();
        for (const form of this.$refs.page.querySelectorAll("form")) {
          if (name && form.elements.pull?.value === pull && form.elements[name]) { form.elements[name].focus?.({ preventScroll: true }); break; }
        }
        document.scrollingElement.scrollTop = place;
      } catch (error) { tell(error.message); }
      setTimeout(() => { if (this.asking === same) this.asking = ""; }, 300);
    },
    change(event) { return this.replace(`${this.$root.dataset.address}/view`, new FormData(event.target.closest("form"))); },
    // A note changes nothing that is drawn.
    async note(event) {
      const body = new FormData(event.target.closest("form"));
      const same = JSON.stringify([...body]);
      if (same === this.noted) return;
      this.noted = same;
      try { await fetchPiece(`${this.$root.dataset.address}/note`, { body }); } catch (error) { this.noted = ""; tell(error.message); }
    },
    move(event) {
      const body = new FormData(event.target);
      body.set(event.submitter.name, event.submitter.value);
      return this.replace(`${this.$root.dataset.address}/note`, body);
    },
  }));
});
