// What is told of a session beside its strips: advice, the brief's boxes, what was found, drives, events, the correction.

import { element } from "../lib/elements.js";
import { clockText, countText, plural } from "../lib/figures.js";

const TICKS = { done: "is-fine", begun: "is-busy", open: "" };
const WHO = { car: "the car", driver: "the driver", tuner: "you", server: "Uchiwa" };
const EVENTS = {
  mark: "marked this moment",
  resumed: "went on after a break",
  allowed: "allows corrections in the running car",
  taken_back: "went back to the car’s own calibration",
  wanted: "had the correction sent to the car",
  not_wanted: "stopped sending it to the car",
  offered: "offered",
  driven: "drives by",
  dropped: "went by its own calibration",
  ended: "ended the session",
  silent: "ended the session after two minutes of silence",
  too_long: "ended the session after six hours",
};
const WHY = {
  running: "The correction runs.",
  off: "The correction is off.",
  no_data: "Waiting: no engine speed comes.",
  standing: "Waiting: the engine stands.",
  not_yet: "Waiting: the engine has run",
  cold: "Waiting: the coolant is at",
  not_opening: "Waiting: the throttle does not open.",
  off_table: "Waiting: this point lies outside the table.",
  no_target: "Waiting: there is no target here.",
};

const timed = (seconds, words, className = "") => {
  const row = element("li", className);
  row.append(element("span", "num", clockText(seconds)), " ", words);
  return row;
};

export class Panels {
  constructor(refs, finding) {
    this.refs = refs;
    this.finding = finding;
    this.known = [];
  }
  advice({ words, more }) {
    this.refs.advice.textContent = words;
    this.refs.adviceMore.textContent = more;
  }
  correcting({ why, how_far: far }) {
    const text = WHY[why] ?? why;
    this.refs.why.textContent = far ? `${text} ${far}.` : text;
    this.refs.why.classList.toggle("is-running", why === "running");
    this.refs.correctingDot.className = `dot ${why === "running" ? "is-fine" : why === "off" ? "" : "is-busy"}`;
  }
  show(found) {
    if (found?.findings) this.#findings(found.findings);
    if (found?.drives) this.#drives(found.drives);
    if (found?.items?.length) this.#items(found.items);
    if (found && "correction" in found) this.#soFar(found.correction);
  }
  #findings(findings) {
    this.refs.foundCount.textContent = findings.length || "";
    this.refs.foundList.replaceChildren(
      ...findings.map((finding) => {
        const row = element("li", `finding is-${finding.severity}`);
        row.append(
          element("span", "", finding.words),
          element("small", "", `${finding.severity} · ${finding.rule.replaceAll("_", " ")}`),
        );
        return row;
      }),
    );
    if (!findings.length) this.refs.foundList.append(element("li", "second", "Nothing wrong so far."));
  }
  #drives(drives) {
    this.refs.drives.replaceChildren(
      ...[...drives]
        .reverse()
        .map((drive) => timed(drive.start, `${drive.title}, ${clockText(drive.end - drive.start)}`)),
    );
  }
  #items(items) {
    this.refs.items.replaceChildren(
      ...items.map((item) => {
        const row = element("li", `is-${item.tick}`);
        row.append(element("span", `dot ${TICKS[item.tick]}`), item.title, " ", element("small", "second", item.said));
        return row;
      }),
    );
  }
  #soFar(correction) {
    if (!correction) this.refs.soFar.textContent = "";
    else if (correction.problem) this.refs.soFar.textContent = correction.problem;
    else {
      const used = `${countText(correction.used)} samples count so far`;
      const changed = correction.changed
        ? `${plural(correction.changed, "cell")} would change`
        : "no cell would change yet";
      this.refs.soFar.textContent = `${used}; ${changed}. The table shows them under Correction.`;
    }
  }
  events(list) {
    this.known = [...this.known, ...list].slice(-60);
    this.refs.events.replaceChildren(
      ...[...this.known].reverse().map((event) => {
        const who = WHO[event.who] ?? event.who;
        const text = event.text && event.kind !== "dropped" ? ` ${event.text}` : event.text ? `, ${event.text}` : "";
        return timed(
          event.seconds,
          `${who[0].toUpperCase()}${who.slice(1)} ${EVENTS[event.kind] ?? event.kind}${text}`,
        );
      }),
    );
    if (!this.known.length) this.refs.events.append(element("li", "second", "Nothing has happened beside driving."));
  }
}
