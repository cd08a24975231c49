// The address of what is looked at.

/** Logs, strips and alignment of a plan as a query, with more fields; empty ones are left out. */
export function readingQuery(plan, show, extra = {}) {
  const found = new URLSearchParams();
  for (const log of plan.logs) found.append("log", log.id);
  found.set("show", show);
  if (plan.by !== "time") {
    found.set("by", plan.by);
    for (const log of plan.logs) found.append("place", `${log.id}:${log.place}`);
  }
  for (const [key, value] of Object.entries(extra)) {
    for (const part of [value].flat()) if (![null, undefined, ""].includes(part)) found.append(key, part);
  }
  return found;
}
