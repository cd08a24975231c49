// Numbers, units and times as people read them.

export function clockText(seconds, digits = 0) {
  const sign = seconds < 0 ? "−" : "";
  const rounded = Number(Math.abs(seconds).toFixed(digits));
  const minutes = Math.floor(rounded / 60);
  const hours = Math.floor(minutes / 60);
  const rest = (rounded - 60 * minutes).toFixed(digits).padStart(digits ? digits + 3 : 2, "0");
  if (!hours) return `${sign}${minutes}:${rest}`;
  return `${sign}${hours}:${String(minutes % 60).padStart(2, "0")}:${rest}`;
}

export const unitText = (unit) => ({ 1: "", degC: "°C", deg: "°" })[unit] ?? unit;

/** A reading with so many decimals; a dash where there is none, and no negative zero. */
export function numberText(value, decimals) {
  if (value === null || value === undefined || Number.isNaN(value)) return "–";
  return value
    .toFixed(decimals)
    .replace(/^-(?=0(\.0*)?$)/, "")
    .replace("-", "−");
}

/** A count with spaces between thousands. */
export const countText = (count) => count.toLocaleString("en").replaceAll(",", " ");
export const plural = (count, noun) => `${count} ${noun}${count === 1 ? "" : "s"}`;
