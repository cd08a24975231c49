// The name that is being typed within a formula.

const WORD = /[A-Za-z_][A-Za-z0-9_]*$/;

/** What the completion is asked for: the name before the caret, or the whole field. */
export function typedWord(text, caret, whole) {
  if (whole) return text.trim();
  return text.slice(0, caret).match(WORD)?.[0] ?? "";
}
/** Text and caret after an item replaced the name before the caret; within the brackets of a function. */
export function completed(text, caret, item) {
  const written = item.write || item.key;
  const before = text.slice(0, caret).replace(WORD, written);
  const bracket = item.write && before.endsWith(")") ? before.lastIndexOf("(") : -1;
  const selection = bracket >= 0 ? [bracket + 1, before.length - 1] : [before.length, before.length];
  return { text: before + text.slice(caret), selection };
}
