"use strict";
// Completion of names while typing: the server says which fit, this shows them. Fields with data-complete take part.

(() => {
  const word = /[A-Za-z_][A-Za-z0-9_]*$/;
  let list = null, field = null, items = [], chosen = -1, asked = 0;

  function close() {
    if (list) list.remove();
    list = null;
    chosen = -1;
    if (field) field.setAttribute("aria-expanded", "false");
  }
  function typed(input) {
    if (input.id === "add-trace") return input.value.trim();
    const before = input.value.slice(0, input.selectionStart);
    const found = before.match(word);
    return found ? found[0] : "";
  }
  function mark(number) {
    chosen = (number + items.length) % items.length;
    [...list.children].forEach((row, at) => {
      row.classList.toggle("is-on", at === chosen);
      row.setAttribute("aria-selected", at === chosen ? "true" : "false");
    });
    list.children[chosen].scrollIntoView({ block: "nearest" });
  }
  function take(number) {
    const item = items[number], input = field;
    close();
    if (input.id === "add-trace") {
      input.value = "";
      input.dispatchEvent(new CustomEvent("taken", { detail: item, bubbles: true }));
      return;
    }
    const caret = input.selectionStart, before = input.value.slice(0, caret).replace(word, item.write || item.key);
    input.value = before + input.value.slice(caret);
    const inside = before.endsWith(")") && before.includes("(") && item.write ? before.lastIndexOf("(") + 1 : before.length;
    input.setSelectionRange(inside, before.length - (inside < before.length ? 1 : 0));
    input.dispatchEvent(new Event("input", { bubbles: true }));
    close();
  }
  function show(input) {
    if (list) list.remove();
    list = null;
    if (!items.length) return;
    field = input;
    list = document.createElement("ul");
    list.className = "completions";
    list.setAttribute("role", "listbox");
    items.forEach((item, number) => {
      const row = document.createElement("li");
      row.setAttribute("role", "option");
      const name = document.createElement("b");
      name.textContent = input.id === "add-trace" ? item.title : item.write || item.key;
      const rest = document.createElement("span");
      rest.textContent = input.id === "add-trace" ? `${window.shownUnit ? window.shownUnit(item.unit) : item.unit}${item.computed ? "  computed" : ""}` : item.title;
      row.append(name, rest);
      row.addEventListener("pointerdown", (event) => { event.preventDefault(); take(number); });
      list.append(row);
    });
    document.body.append(list);
    const box = input.getBoundingClientRect();
    list.style.left = `${Math.min(box.left, window.innerWidth - 330)}px`;
    if (box.bottom + 220 > window.innerHeight) list.style.bottom = `${window.innerHeight - box.top + 2}px`;
    else list.style.top = `${box.bottom + 2}px`;
    input.setAttribute("aria-expanded", "true");
    mark(0);
  }
  async function ask(input) {
    const text = typed(input), number = ++asked;
    if (!text && input.id !== "add-trace") { close(); return; }
    const address = new URL(input.dataset.complete, location.href);
    if (input.id === "add-trace") new URLSearchParams(window.readingQuery ? window.readingQuery() : "").forEach((value, key) => address.searchParams.append(key, value));
    address.searchParams.set("typed", text);
    try {
      const found = JSON.parse(await fetchPiece(address));
      if (number !== asked || document.activeElement !== input) return;
      items = found.filter((one) => one.key !== text);
      show(input);
    } catch { close(); }
  }
  document.addEventListener("input", (event) => { if (event.target.dataset && event.target.dataset.complete && event.isTrusted) ask(event.target); });
  document.addEventListener("focusin", (event) => { if (event.target.id === "add-trace") ask(event.target); });
  document.addEventListener("focusout", () => { asked++; close(); });
  document.addEventListener("keydown", (event) => {
    if (!list || event.target !== field) return;
    if (event.key === "ArrowDown" || event.key === "ArrowUp") { event.preventDefault(); event.stopPropagation(); mark(chosen + (event.key === "ArrowDown" ? 1 : -1)); }
    else if (event.key === "Tab" || (event.key === "Enter" && !event.ctrlKey && (field.id === "add-trace" || typed(field)))) { event.preventDefault(); event.stopPropagation(); take(chosen); }
    else if (event.key === "Escape") { event.preventDefault(); event.stopPropagation(); asked++; close(); }
  }, true);
})();
