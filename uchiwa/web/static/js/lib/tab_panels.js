// Panels of a margin of which one is shown, chosen by a row of buttons and remembered.

/** Shows the panel of a name, or the first; its name. */
export function showPanel(root, tabs, name, remembered) {
  const buttons = [...tabs.querySelectorAll("button")];
  const found = buttons.find((one) => one.dataset.panel === name) ?? buttons[0];
  for (const one of buttons) {
    one.classList.toggle("is-on", one === found);
    one.setAttribute("aria-pressed", one === found ? "true" : "false");
  }
  for (const panel of root.querySelectorAll(".panel")) panel.hidden = panel.dataset.panel !== found.dataset.panel;
  localStorage.setItem(remembered, found.dataset.panel);
  return found.dataset.panel;
}
