// Two channels against each other, coloured by a third; a frame drawn on the cloud finds its moments on the strips.

import { element, themeColour } from "../lib/elements.js";
import { countText, numberText, plural } from "../lib/figures.js";
import { showError } from "../lib/message.js";
import { drawFrame, valuesAt } from "./picture.js";

const SHADES = 8;
const SMALLEST_FRAME = 0.008;
const FIRST_Y = ["manifold_pressure", "airflow", "throttle_position"];
const FIRST_COLOUR = ["fuel_error", "lambda_measured", "spark_advance"];

const mixed = (from, share, to) => `color-mix(in oklab, ${themeColour(from)} ${share}%, ${themeColour(to)})`;

/** Shades from the lowest to the highest; diverging where the middle means nothing is wrong. */
export function shades(diverging) {
  return Array.from({ length: SHADES }, (_, step) => {
    if (diverging) {
      const share = Math.abs(2 * step - (SHADES - 1)) / (SHADES - 1);
      return mixed(step < SHADES / 2 ? "--fill-cut" : "--fill-add", Math.round(100 * share), "--rule");
    }
    return step < SHADES / 2
      ? mixed("--pale", 100 - step * 24, "--indigo")
      : mixed("--ink", (step - 3) * 22, "--indigo");
  });
}

export class Scatter {
  constructor(page) {
    this.page = page;
    this.canvas = page.refs.cloud;
    this.form = page.refs.cloudForm;
    this.said = page.refs.cloudSaid;
    this.data = null;
    this.frame = null;
    this.#listen();
  }

  /** What a form of channels asks for: a part of the log, and channels. */
  asked(form = this.form) {
    const { x, y, colour, where, inview, sieve } = Object.fromEntries(new FormData(form));
    const asked = { x, y, colour, where, sieve };
    if (inview && !this.page.bySpeed) Object.assign(asked, this.page.view);
    return asked;
  }
  open() {
    if (this.data) return undefined;
    const { x, y, colour } = this.form.elements;
    const has = (key) => [...x.options].some((option) => option.value === key);
    x.value = has("engine_speed") ? "engine_speed" : x.options[0].value;
    y.value = FIRST_Y.find(has) ?? y.value;
    colour.value = FIRST_COLOUR.find(has) ?? colour.value;
    return this.fetch();
  }
  async fetch() {
    try {
      this.data = await this.page.ask("scatter", this.asked());
      this.frame = null;
      this.draw();
      this.#say();
    } catch (error) {
      this.said.textContent = error.message;
    }
  }

  draw() {
    const { x, y, colour, count } = this.data.points;
    const { context, inner, toX, toY } = drawFrame(this.canvas, this.data.x, this.data.y);
    const size = Math.max(1.6, Math.min(inner.width / 180, inner.height / 120) + 0.6);
    const most = Math.sqrt(count.reduce((a, b) => Math.max(a, b), 1));
    const fills = shades(this.data.diverging);
    const { low, high } = this.data.colour;
    const shadeOf = (value) =>
      fills[Math.max(0, Math.min(7, Math.floor(((value - low) / (high - low || 1)) * SHADES)))];
    x.forEach((value, number) => {
      if (colour.length) {
        context.fillStyle = colour[number] === null ? themeColour("--rule") : shadeOf(colour[number]);
      } else {
        context.fillStyle = themeColour("--indigo");
        context.globalAlpha = 0.3 + 0.7 * (Math.sqrt(count[number]) / most);
      }
      context.fillRect(toX(value) - size / 2, toY(y[number]) - size / 2, size, size);
    });
    context.globalAlpha = 1;
    if (!this.frame) return;
    const { left, right, bottom, top } = this.frame;
    context.strokeStyle = themeColour("--ink");
    context.lineWidth = 1.5;
    context.strokeRect(toX(left), toY(top), toX(right) - toX(left), toY(bottom) - toY(top));
  }

  #say(more = "Drag a frame to find its moments.") {
    const { colour } = this.form.elements;
    const density = colour.value ? "" : "The darker, the more samples. ";
    const left = this.data.left_out
      ? ` ${countText(this.data.left_out)} that the sieve of Fuel leaves out are not shown.`
      : "";
    this.said.textContent = `${countText(this.data.samples)} samples.${left} ${density}${more}`;
    if (colour.value) this.said.prepend(this.#scale(colour.selectedOptions[0].text));
  }
  #scale(title) {
    const scale = element("span", "cloud-scale");
    const end = (value, words) => element("span", "num", ` ${numberText(value, this.data.colour.decimals)} ${words} `);
    const marks = shades(this.data.diverging).map((shade) => {
      const mark = element("i");
      mark.style.background = shade;
      return mark;
    });
    const { low, high } = this.data.colour;
    scale.append(element("b", "", `${title} `), end(low, "or less"), ...marks, end(high, "or more"));
    return scale;
  }

  #listen() {
    let from = null;
    const at = (event) => valuesAt(this.canvas, this.data.x, this.data.y, event.clientX, event.clientY);
    const framed = (to) => ({
      left: Math.min(from[0], to[0]),
      right: Math.max(from[0], to[0]),
      bottom: Math.min(from[1], to[1]),
      top: Math.max(from[1], to[1]),
    });
    this.canvas.addEventListener("pointerdown", (event) => {
      if (!this.data) return;
      from = at(event);
      this.canvas.setPointerCapture(event.pointerId);
    });
    this.canvas.addEventListener("pointermove", (event) => {
      if (!from) return;
      this.frame = framed(at(event));
      this.draw();
    });
    this.canvas.addEventListener("pointerup", (event) => {
      if (!from) return;
      this.frame = framed(at(event));
      from = null;
      const { left, right } = this.frame;
      if (right - left < (this.data.x.high - this.data.x.low) * SMALLEST_FRAME) this.#dropFrame();
      else this.#find();
      this.draw();
    });
  }
  #dropFrame() {
    this.frame = null;
    this.#say();
    this.page.highlight([]);
  }
  async #find() {
    const { left, right, bottom, top } = this.frame;
    try {
      const found = await this.page.ask("brush", { ...this.asked(), box: [left, right, bottom, top] });
      const moments = `${found.seconds.toFixed(1)} s in ${plural(found.count, "moment")}`;
      this.#say(`${countText(found.samples)} samples in the frame, ${moments}, shaded on the strips.`);
      this.page.highlight(found.spans);
    } catch (error) {
      showError(error);
    }
  }
}
