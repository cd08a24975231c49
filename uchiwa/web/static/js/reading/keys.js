// The keys of the reading page.

/** What a key does, by name; `page` is the reading page. */
function actionOf(page, event) {
  const step = page.bySpeed ? 10 : page.plan.logs[0].step;
  const at = page.cursor ?? page.view.start;
  const by = step * (event.ctrlKey ? 20 : 1);
  const actions = {
    ArrowLeft: () => (event.shiftKey ? page.pan(-0.2) : page.moveCursor(at - by)),
    ArrowRight: () => (event.shiftKey ? page.pan(0.2) : page.moveCursor(at + by)),
    ArrowUp: () => page.stepTrace(-1),
    ArrowDown: () => page.stepTrace(1),
    Home: () => page.moveCursor(page.all.start),
    End: () => page.moveCursor(page.all.end),
    "+": () => page.zoom(0.6, at),
    "=": () => page.zoom(0.6, at),
    "-": () => page.zoom(1 / 0.6, at),
    0: () => page.wholeView(),
    b: () => page.setSecond(at),
    Escape: () => page.letGo(),
    h: () => page.goToExtreme(page.chosen, "highest"),
    l: () => page.goToExtreme(page.chosen, "lowest"),
    ".": () => page.stepEvent(1),
    ",": () => page.stepEvent(-1),
    " ": () => page.play(),
    "/": () => page.refs.add.focus(),
    w: () => page.refs.condition.focus(),
    c: () => page.refs.bins.click(),
    Delete: () => page.removeChosen(),
  };
  return actions[event.key];
}

/** Whether a key is for the page: not for a field, nor for the browser. */
function isForPage(event) {
  if (event.metaKey || event.altKey || (event.ctrlKey && !event.key.startsWith("Arrow"))) return false;
  return !(event.target.matches("button, summary, a") && [" ", "Enter"].includes(event.key));
}

/** A key that reached the page: typed into a field, or an action. */
export function takeKey(page, event) {
  if (event.target.matches("input, textarea, select")) {
    fieldKey(page, event);
    return;
  }
  const act = isForPage(event) && actionOf(page, event);
  if (!act) return;
  event.preventDefault();
  act();
}

function fieldKey(page, event) {
  if (event.target === page.refs.condition && event.key === "Enter" && event.shiftKey) {
    event.preventDefault();
    page.previousMoment();
  }
  if (event.key === "Escape") page.strips.hit.focus();
}
