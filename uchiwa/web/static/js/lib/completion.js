// Completion of names while typing: the server says which fit, this shows them. Fields with data-complete take part;
// one with data-complete="…" data-whole="yes" takes a whole name at a time and says so with the event "taken".

import { element } from "./elements.js";
import { unitText } from "./figures.js";
import { latestOnly } from "./fragments.js";
import { fetchJson } from "./http.js";
import { completed, typedWord } from "./words.js";

const WIDTH = 330;
const HEIGHT = 220;
const state = { list: null, field: null, items: [], chosen: -1, latest: latestOnly() };

const isWhole = (input) => input.dataset.whole === "yes";

function close() {
  state.list?.remove();
  state.list = null;
  state.chosen = -1;
  state.field?.setAttribute("aria-expanded", "false");
}
function dismiss() {
  state.latest(async () => undefined);
  close();
}

function mark(number) {
  state.chosen = (number + state.items.length) % state.items.length;
  [...state.list.children].forEach((row, at) => {
    row.classList.toggle("is-on", at === state.chosen);
    row.setAttribute("aria-selected", at === state.chosen ? "true" : "false");
  });
  state.list.children[state.chosen].scrollIntoView({ block: "nearest" });
}
function take(number) {
  const item = state.items[number];
  const input = state.field;
  close();
  if (isWhole(input)) {
    input.value = "";
    input.dispatchEvent(new CustomEvent("taken", { detail: item, bubbles: true }));
    return;
  }
  const { text, selection } = completed(input.value, input.selectionStart, item);
  input.value = text;
  input.setSelectionRange(...selection);
  input.dispatchEvent(new Event("input", { bubbles: true }));
  close();
}
function rowOf(item, number, whole) {
  const row = element("li");
  row.setAttribute("role", "option");
  const rest = whole ? `${unitText(item.unit)}${item.computed ? "  computed" : ""}` : item.title;
  row.append(element("b", "", whole ? item.title : item.write || item.key), element("span", "", rest));
  row.addEventListener("pointerdown", (event) => {
    event.preventDefault();
    take(number);
  });
  return row;
}
function show(input) {
  state.list?.remove();
  state.list = null;
  if (!state.items.length) return;
  state.field = input;
  state.list = element("ul", "completions");
  state.list.setAttribute("role", "listbox");
  state.list.append(...state.items.map((item, number) => rowOf(item, number, isWhole(input))));
  document.body.append(state.list);
  const box = input.getBoundingClientRect();
  state.list.style.left = `${Math.min(box.left, window.innerWidth - WIDTH)}px`;
  if (box.bottom + HEIGHT > window.innerHeight) state.list.style.bottom = `${window.innerHeight - box.top + 2}px`;
  else state.list.style.top = `${box.bottom + 2}px`;
  input.setAttribute("aria-expanded", "true");
  mark(0);
}
async function ask(input) {
  const text = typedWord(input.value, input.selectionStart, isWhole(input));
  if (!text && !isWhole(input)) {
    close();
    return;
  }
  const address = new URL(input.dataset.complete, location.href);
  for (const [key, value] of new URLSearchParams(input.dataset.query ?? "")) address.searchParams.append(key, value);
  address.searchParams.set("typed", text);
  try {
    const found = await state.latest(() => fetchJson(address));
    if (found === undefined || document.activeElement !== input) return;
    state.items = found.filter((item) => item.key !== text);
    show(input);
  } catch {
    close();
  }
}
function onKey(event) {
  const { list, field } = state;
  if (!list || event.target !== field) return;
  const enters = event.key === "Enter" && !event.ctrlKey;
  const takes =
    event.key === "Tab" || (enters && (isWhole(field) || typedWord(field.value, field.selectionStart, false)));
  if (event.key === "ArrowDown") mark(state.chosen + 1);
  else if (event.key === "ArrowUp") mark(state.chosen - 1);
  else if (takes) take(state.chosen);
  else if (event.key === "Escape") dismiss();
  else return;
  event.preventDefault();
  event.stopPropagation();
}

document.addEventListener("input", (event) => {
  if (event.target.dataset?.complete && event.isTrusted) ask(event.target);
});
document.addEventListener("focusin", (event) => {
  if (event.target.dataset?.complete && isWhole(event.target)) ask(event.target);
});
document.addEventListener("focusout", dismiss);
document.addEventListener("keydown", onKey, true);
