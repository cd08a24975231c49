"use strict";
// Comparison: which cells are chosen, so that only those are taken across.

document.addEventListener("alpine:init", () => {
  Alpine.data("compare", () => ({
    from: null, to: null, dragging: false, count: 0,
    init() { window.addEventListener("pointerup", () => { this.dragging = false; }); },
    get countWords() { return this.count ? `${this.count} chosen cell${this.count === 1 ? "" : "s"}` : "The whole table"; },
    go() { this.$refs.sides.submit(); },
    at(cell) { return [Number(cell.dataset.i), Number(cell.dataset.j)]; },
    press(event) {
      const cell = event.target.closest("td");
      if (!cell) return;
      this.dragging = true;
      if (!event.shiftKey || !this.from) this.from = this.at(cell);
      this.to = this.at(cell);
      this.mark();
    },
    drag(event) {
      const cell = event.target.closest("td");
      if (cell && this.dragging) { this.to = this.at(cell); this.mark(); }
    },
    key(event) {
      const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };
      const cell = event.target.closest("td");
      if (event.key === "Escape") { this.from = null; this.mark(); return; }
      if (!cell || !steps[event.key]) return;
      event.preventDefault();
      const [i, j] = this.at(cell), [x, y] = steps[event.key];
      const next = this.$refs.grid.querySelector(`td[data-i="${i + x}"][data-j="${j + y}"]`);
      if (!next) return;
      if (!event.shiftKey || !this.from) this.from = this.at(next);
      this.to = this.at(next);
      this.mark();
      next.focus();
    },
    mark() {
      const cells = [];
      for (const cell of this.$refs.grid.querySelectorAll("td")) {
        const [i, j] = this.at(cell);
        const inside = this.from !== null && i >= Math.min(this.from[0], this.to[0]) && i <= Math.max(this.from[0], this.to[0]) && j >= Math.min(this.from[1], this.to[1]) && j <= Math.max(this.from[1], this.to[1]);
        cell.classList.toggle("is-taken", inside);
        if (inside) cells.push(`${i}.${j}`);
      }
      this.count = cells.length;
      for (const field of this.$root.querySelectorAll(".taken-cells")) field.value = cells.join(" ");
    },
  }));
});
