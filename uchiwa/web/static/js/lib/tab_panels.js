// Panels of a margin of which one is shown, chosen by a row of buttons and remembered.

/** Shows the panel of a name, or the first; its name. */
export function showPanel(root, tabs, name, remembered) {
  const buttons = [...tabs.querySelectorAll("button")];
  const found = buttons.find((button) => button.dataset.panel === name) ?? buttons[0];
  for (const button of buttons) {
    button.classList.toggle("is-on", button === found);
    button.setAttribute("aria-pressed", button === found ? "true" : "false");
  }
  for (const panel of root.querySelectorAll(".panel")) panel.hidden = panel.dataset.panel !== found.dataset.panel;
  localStorage.setItem(remembered, found.dataset.panel);
  return found.dataset.panel;
}
