"""What axe finds on pages: WCAG 2 A and AA, and good practice."""

from __future__ import annotations

import json
import re
from pathlib import Path

from playwright.sync_api import Browser, Page

from uchiwa import demo

_AXE = Path(__file__).with_name("axe") / "axe.min.js"
_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"]
_SHOP = (
    "/", "/jobs/new", "/shop/checks", "/shop/channels", "/shop/people", "/shop/customers?show=1", "/shop/settings", "/shop/audit",
    "/operation", "/account", "/account/second-factor", "/account/tokens", "/api/docs", "/mailbox", "/shelf", "/shelf/1",
    "/shelf/2", "/shelf/3", "/shelf/4", "/shelf/6",
)  # fmt: skip
_JOB = ("", "/car", "/image", "/setups", "/history")
_ROUND = (
    "brief", "logs", "fuel", "fuel?view=proposed", "airflow", "read", "spark/knock", "spark/pulls", "spark/torque", "spark/limit",
    "tables", "tables?table=constants", "compare", "review", "return", "bins",
)  # fmt: skip


def found_on(page: Page, theme: str) -> list[str]:
    """Each fault with its first place; what differs by night are the colours."""
    rules = {"type": "tag", "values": _RULES} if theme == "day" else {"type": "rule", "values": ["color-contrast"]}
    if not page.evaluate("'axe' in window"):
        page.evaluate(_AXE.read_text())
    # Style sheets are not fetched once more: of the rules asked for, only the pages' own orientation would need them.
    options = {"runOnly": rules, "resultTypes": ["violations"], "preload": False}
    result = page.evaluate(f"axe.run(document, {json.dumps(options)})")
    return [f"{one['id']}: {one['nodes'][0]['html'][:200]}" for one in result["violations"]]


def violations(browser: Browser, address: str) -> list[str]:
    """Faults of every page of the demo's first worked job, by day and by night."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address, reduced_motion="reduce")
    page = context.new_page()
    page.goto("/sign-in")
    found = _by_day_and_night(page, "/sign-in")
    page.get_by_label("E-mail").fill(demo.EMAIL)
    page.get_by_label("Password").fill(demo.PASSWORD)
    page.keyboard.press("Enter")
    page.wait_for_load_state()
    link = page.locator("a", has_text="Corvid Pike, hill car").first.get_attribute("href") or ""
    job = re.match(r"/jobs/\d+", link)
    assert job is not None, link
    rounds = [f"{job[0]}/rounds/2/{station}" for station in _ROUND]
    for path in (*_SHOP, *(job[0] + one for one in _JOB), *rounds, *_of_idle(page)):
        answer = page.goto(path)
        if answer is not None and answer.status == 404:
            found.append(f"there is no {path}")
            continue
        page.wait_for_timeout(100)
        found += _by_day_and_night(page, path)
    context.close()
    return found


def _of_idle(page: Page) -> list[str]:
    """The Idle station of the demo's automatic, and the clamp of its supercharged car."""
    found = []
    for title, stations in (
        ("Corvid Pike automatic", ("idle/air", "idle/warm-up", "idle/quality")),
        ("Larkspur Tern S", ("fuel/clamp",)),
    ):
        page.goto("/")
        link = page.locator("a", has_text=title).first.get_attribute("href") or ""
        round_ = re.match(r"/jobs/\d+/rounds/\d+", link)
        assert round_ is not None, link
        found += [f"{round_[0]}/{station}" for station in stations]
    return found


def _by_day_and_night(page: Page, path: str) -> list[str]:
    """Faults of the page that is open, in both themes; a theme is an attribute of the document."""
    found = []
    for theme in ("day", "night"):
        # Colours that fade from one theme to the other are judged once they have arrived.
        page.evaluate(
            "theme => { document.documentElement.dataset.theme = theme; "
            "return Promise.allSettled(document.getAnimations().map((one) => one.finished)).then(() => null); }",
            theme,
        )
        found += [f"{theme} {path} {one}" for one in found_on(page, theme)]
    return found
