// The logs that are open: each can be hidden, laid at another place, and closed.

import { button, element } from "../lib/elements.js";

export class LogChips {
  constructor(page) {
    this.page = page;
  }
  draw() {
    const { page } = this;
    const { plan, refs } = page;
    refs.logs.replaceChildren(...plan.logs.map((log, number) => this.#chip(log, number)));
    const laid = plan.logs[0].drives.some(({ kind }) => kind.includes("pull") || kind.includes("roll"));
    refs.byLabel.hidden = plan.logs.length === 1 && plan.by === "time" && !laid;
    refs.by.value = plan.by;
    const open = new Set(plan.logs.map((log) => String(log.id)));
    for (const option of refs.beside.options) option.hidden = open.has(option.value);
  }
  #chip(log, number) {
    const { plan, hidden } = this.page;
    const many = plan.logs.length > 1;
    const chip = element("li", `log-chip ink-${number}`);
    chip.classList.toggle("is-hidden", hidden.has(log.id));
    const name = element("a", "", log.name);
    name.href = `${plan.address.replace(/\/read$/, "")}/logs?show=${log.id}`;
    name.title = [log.words, log.revision, `round ${log.round}`].filter(Boolean).join(" · ");
    if (many) chip.append(this.#hider(log));
    chip.append(name);
    if (many && plan.by === "time") chip.append(element("small", "second", ` round ${log.round}`));
    if (log.places.length > 1) chip.append(this.#places(log));
    else if (plan.by !== "time") chip.append(element("small", "second", ` ${onlyPlace(log, plan.by)}`));
    if (many) chip.append(button("×", () => this.#close(log), { label: `Close ${log.name}` }));
    return chip;
  }
  #hider(log) {
    const { hidden } = this.page;
    const isHidden = hidden.has(log.id);
    const hide = () => {
      if (isHidden) hidden.delete(log.id);
      else hidden.add(log.id);
      this.draw();
      this.page.valueTable.draw();
      this.page.draw();
    };
    const made = button("", hide, {
      className: "swatch-button",
      title: isHidden ? "Show it again" : "Hide it without closing it",
      label: `${isHidden ? "Show" : "Hide"} ${log.name}`,
    });
    made.setAttribute("aria-pressed", isHidden ? "false" : "true");
    made.append(element("i", "swatch"));
    return made;
  }
  #places(log) {
    const { plan } = this.page;
    const select = element("select", "place");
    select.setAttribute("aria-label", `Where ${log.name} is laid`);
    select.append(...log.places.map(({ words }, at) => new Option(words, at)));
    select.value = log.place;
    const laid = (other) => (other.id === log.id ? select.value : other.place);
    select.addEventListener("change", () =>
      this.page.reload(plan.show, { place: plan.logs.map((other) => `${other.id}:${laid(other)}`) }),
    );
    return select;
  }
  #close(log) {
    const { plan } = this.page;
    const rest = plan.logs.filter((other) => other.id !== log.id);
    return this.page.reload(plan.show, { log: rest.map((other) => other.id) });
  }
}

function onlyPlace(log, by) {
  if (log.places.length) return log.places[0].words;
  return by === "marker" ? "no marker" : "no pull";
}
