// How many moments a condition holds in.

export function hitsText({ count, number, seconds }, direction) {
  if (!count) return "never in this log";
  const which = number ? `${number} of` : `${direction === "next" ? "none after" : "none before"}, of`;
  return `${which} ${count}, ${seconds.toFixed(1)} s`;
}
