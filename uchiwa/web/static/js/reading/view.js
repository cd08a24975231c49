// The stretch of common time, or of engine speed, that there is and that is shown.

/** From where to where the open logs reach. */
export function wholeOf(plan, strips) {
  if (plan.by === "speed") return wholeBySpeed([...strips.coarse.values()]);
  const starts = plan.logs.map((log) => log.start - log.offset);
  const ends = plan.logs.map((log) => log.end - log.offset);
  const start = Math.min(...starts);
  return { start, end: Math.max(...ends, start + 0.5) };
}
function wholeBySpeed(traces) {
  let [low, high] = [Infinity, -Infinity];
  for (const { x, points } of traces) {
    for (let at = 0; at < points; at++) {
      low = Math.min(low, x[at]);
      high = Math.max(high, x[at]);
    }
  }
  if (low > high) return { start: 0, end: 7000 };
  return { start: Math.floor(low / 250) * 250, end: Math.ceil(high / 250) * 250 };
}

export const withinWhole = (all, moment) => Math.min(Math.max(moment, all.start), all.end);

/** The view in which logs that are laid by pull or marker are seen at the place they are laid by; null for others. */
export function placedView(plan, all) {
  if (plan.by !== "pull" && plan.by !== "marker") return null;
  const places = plan.logs.filter((log) => log.places.length).map((log) => log.places[log.place]);
  if (!places.length) return null;
  const length = Math.max(8, ...places.map((place) => place.end - place.start));
  return { start: Math.max(all.start, -0.25 * length), end: Math.min(all.end, 1.25 * length) };
}
