// Traces that grow: what the server sent of a stretch, and every sample that has come since.

const FIRST = 4096;

class Trace {
  constructor(log, key) {
    Object.assign(this, { log, key, origin: 0, points: 0, from: 0, to: 0, all: true });
    this.room = { x: new Float32Array(FIRST), y: new Float32Array(FIRST) };
    this.view = { low: null, mean: null, high: null };
    this.whole = { low: null, mean: null, high: null };
    this.last = null;
    this.#show();
  }
  #show() {
    this.x = this.room.x.subarray(0, this.points);
    this.y = this.room.y.subarray(0, this.points);
    if (!this.points) return;
    this.from = this.origin + this.x[0];
    this.to = this.origin + this.x[this.points - 1];
  }
  #grow(size) {
    if (size <= this.room.x.length) return;
    const more = Math.max(size, 2 * this.room.x.length);
    for (const name of ["x", "y"]) {
      const wider = new Float32Array(more);
      wider.set(this.room[name].subarray(0, this.points));
      this.room[name] = wider;
    }
  }
  /** In place of all that is here. */
  replace(origin, x, y, whole) {
    this.origin = origin;
    this.points = 0;
    this.#grow(x.length);
    this.room.x.set(x);
    this.room.y.set(y);
    this.points = x.length;
    this.whole = whole;
    this.#show();
  }
  add(times, values) {
    this.#grow(this.points + times.length);
    for (let at = 0; at < times.length; at++) {
      const value = values[at];
      if (value === null || (this.points && times[at] <= this.to)) continue;
      this.room.x[this.points] = times[at] - this.origin;
      this.room.y[this.points] = value;
      this.points += 1;
      this.last = value;
      if (this.whole.low === null || value < this.whole.low) this.whole.low = value;
      if (this.whole.high === null || value > this.whole.high) this.whole.high = value;
    }
    this.#show();
  }
  /** Lowest, mean and highest of what is in view. */
  figures(start, end) {
    let [low, high, sum, count] = [Infinity, -Infinity, 0, 0];
    for (let at = this.points - 1; at >= 0 && this.origin + this.x[at] >= start; at--) {
      const value = this.y[at];
      if (this.origin + this.x[at] > end || Number.isNaN(value)) continue;
      low = Math.min(low, value);
      high = Math.max(high, value);
      sum += value;
      count += 1;
    }
    this.view = count ? { low, mean: sum / count, high } : { low: null, mean: null, high: null };
  }
}

export class Traces {
  constructor(log) {
    this.log = log;
    this.byName = new Map();
    this.end = 0;
  }
  of(key) {
    const name = `${this.log} ${key}`;
    if (!this.byName.has(name)) this.byName.set(name, new Trace(this.log, key));
    return this.byName.get(name);
  }
  /** What the server sent of a stretch. */
  load(data) {
    this.byName.clear();
    for (const stored of data.traces) {
      const trace = this.of(stored.key);
      trace.replace(data.start, stored.x, stored.y, stored.whole);
      this.end = Math.max(this.end, trace.points ? trace.to : 0);
    }
  }
  /** @param newest whether these are the newest rows; computed channels come later */
  add(times, values, newest = true) {
    for (const [key, list] of Object.entries(values)) this.of(key).add(times, list);
    if (newest && times.length) this.end = Math.max(this.end, times.at(-1));
  }
  /** Whether a trace has left the axis it is drawn on. */
  leaves(plan, axes) {
    return plan.strips.some((strip, number) =>
      strip.some((trace) => {
        const axis = axes[number]?.find((drawn) => drawn.unit === trace.unit);
        const { last } = this.of(trace.key);
        return axis && last !== null && (last < axis.low || last > axis.high);
      }),
    );
  }
}
