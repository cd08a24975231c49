// How long a channel stayed where.

import { themeColour } from "../lib/elements.js";
import { drawFrame, line } from "./picture.js";

const text = (value) => String(Number(value.toPrecision(4))).replace("-", "−");

export class Distribution {
  constructor(page) {
    this.page = page;
    this.canvas = page.refs.spread;
    this.said = page.refs.spreadSaid;
    this.data = null;
  }
  open() {
    return this.data ? undefined : this.fetch();
  }
  async fetch() {
    try {
      this.data = await this.page.ask("distribution", this.page.scatter.asked(this.page.refs.spreadForm));
      this.draw();
      const { quantiles: q, total, mean } = this.data;
      const [low, high, least, most] = ["25%", "75%", "5%", "95%"].map((share) => text(q[share]));
      this.said.textContent = `${total.toFixed(1)} s in all. Half of the time between ${low} and ${high}, 90 % between ${least} and ${most}; median ${text(q["50%"])}, mean ${text(mean)}.`;
    } catch (error) {
      this.said.textContent = error.message;
    }
  }
  draw() {
    const { seconds, edges, quantiles } = this.data;
    const { context, inner, toX, toY } = drawFrame(this.canvas, this.data.x, this.data.y);
    const bottom = inner.top + inner.height;
    context.fillStyle = themeColour("--pale");
    context.strokeStyle = themeColour("--indigo");
    seconds.forEach((spent, number) => {
      if (!spent) return;
      const left = toX(edges[number]);
      const width = Math.max(1, toX(edges[number + 1]) - left - 1);
      context.fillRect(left, toY(spent), width, bottom - toY(spent));
      line(context, [left, toY(spent)], [left + width, toY(spent)]);
    });
    context.strokeStyle = themeColour("--ink");
    context.lineWidth = 1.5;
    const median = toX(quantiles["50%"]);
    line(context, [median, inner.top], [median, bottom]);
  }
}
