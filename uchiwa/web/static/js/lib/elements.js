// Elements made by scripts, and colours of the theme for canvases.

export function element(tag, className = "", text = undefined) {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text !== undefined) made.textContent = text;
  return made;
}
export function button(text, act, { className = "plain", title = "", label = "" } = {}) {
  const made = element("button", className, text);
  made.type = "button";
  if (title) made.title = title;
  if (label) made.setAttribute("aria-label", label);
  if (act) made.addEventListener("click", act);
  return made;
}
export const themeColour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
