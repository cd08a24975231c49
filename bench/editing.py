"""`python -m bench.editing`: an edit of a 40 × 40 table, at the server and in the browser."""

from __future__ import annotations

import json
import statistics
import time

import numpy as np
from playwright.sync_api import Page

from bench.place import own_database, signed_in
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen
from uchiwa.services import tables
from uchiwa.standin.cars import pike_base
from uchiwa.store import draft_steps, jobs
from uchiwa.store.acting import Acting
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Round, User
from uchiwa.web.grid.table_grid import Showing, drawn

SIZE = 40
EDITS = 15


def large() -> Calibration:
    """The Pike's calibration with a VE table of 40 × 40."""
    base = pike_base()
    old = base.table("ve_main")
    x, y = np.linspace(600, 7000, SIZE).round(), np.linspace(20, 215, SIZE).round()
    assert old.y is not None
    grid = np.round(old.lookup(*np.meshgrid(x, y)), 1)
    table = Table(
        old.id, old.title, old.role, old.unit, Axis("engine_speed", "rpm", frozen(x)),
        Axis("manifold_pressure", "kPa", frozen(y)), frozen(grid), 0, 160, 1,
    )  # fmt: skip
    return base.with_table(table)


def _server(user: User, job: Job, round_: Round) -> list[tuple[str, float, str]]:
    every = [(i, j) for j in range(SIZE) for i in range(SIZE)]
    rows = []
    for words, cells, lines in (
        ("an edit of 12 cells", every[:12], ("x*1.01", "x*0.99")),
        ("an edit of all 1,600 cells", every, ("x*1.01", "x*0.99")),
        ("smoothing all 1,600 cells", every, ("smooth 40", "x*1.001")),
    ):
        times, size, parts = [], 0, [0.0, 0.0]
        for number in range(EDITS):
            begun = time.perf_counter()
            with unit_of_work():
                before = tables.table_work(job, round_, "ve_main")
                hand = tables.Editor(Acting(job, round_, user, before.draft.version))
                looked = drawn(before.table, before.was, None, before.pinned, Showing.VALUE)
                edited = time.perf_counter()
                after = tables.edit(hand, before, cells, lines[number % 2]).after
                kept = time.perf_counter()
                draft_steps.ends(job)
                cells_now = looked.changed(drawn(after.table, after.was, None, after.pinned, Showing.VALUE))
            size = len(json.dumps(cells_now))
            times.append((time.perf_counter() - begun) * 1000)
            parts = [(kept - edited) * 1000, times[-1] - (kept - edited) * 1000]
        rows.append(
            (
                f"{words}, 40 × 40, with its redraw",
                statistics.median(times),
                f"{size / 1000:.1f} kB to redraw; {parts[0]:.0f} ms of it the edit",
            )
        )
    return rows


def _until(page: Page, what: str) -> None:
    """The page's policy lets nothing be evaluated inside it, so it is asked from outside."""
    deadline = time.monotonic() + 20
    while not page.evaluate(what):
        if time.monotonic() > deadline:
            raise TimeoutError(what)
        time.sleep(0.002)


def _browser(job: Job) -> list[tuple[str, float, str]]:
    with signed_in() as page:
        page.goto(f"/jobs/{job.id}/rounds/1/tables?table=ve_main")
        page.locator("td.is-active").wait_for()
        rows = []
        for words, keys in (("12 cells", ["Shift+ArrowRight"] * 11), ("all 1,600 cells", ["Control+a"])):
            page.keyboard.press("Escape")
            for key in keys:
                page.keyboard.press(key)
            times, answered, cells = [], [], 0
            for number in range(EDITS):
                page.evaluate("performance.clearMeasures()")
                page.keyboard.type("x*1.01" if number % 2 else "x*0.99")
                begun = time.perf_counter()
                page.keyboard.press("Enter")
                _until(page, "performance.getEntriesByName('table redraw').length > 0")
                answered.append((time.perf_counter() - begun) * 1000)
                found = page.evaluate(
                    "(({ duration, detail }) => ({ duration, detail }))(performance.getEntriesByName('table redraw')[0])"
                )
                times.append(found["duration"])
                cells = found["detail"]
                _until(page, "document.activeElement.closest('table.grid') !== null")
            rows.append(
                (
                    f"browser: scripting of a grid redraw, {words}",
                    statistics.median(times),
                    f"{cells} cells drawn, longest {max(times):.1f} ms",
                )
            )
            rows.append(("  from Enter to the redrawn grid", statistics.median(answered), ""))
    return rows


def rows() -> list[tuple[str, float, str]]:
    """The table's rows."""
    with own_database() as user:
        with unit_of_work():
            job = jobs.create(user, "Customer", "Corvid Pike", "", large())
            round_ = jobs.rounds(job)[0]
        document = calibration_json.dumps(large())
        found = _server(user, job, round_)
        return [*found, *_browser(job), ("  the calibration as JSON, kB", len(document) / 1000, "")]


def main() -> None:
    """Print one table."""
    print(f"{'what':<62} {'median ms':>10}")
    for words, milliseconds, ratio in rows():
        print(f"{words:<62} {milliseconds:>10.1f}  {ratio}")


if __name__ == "__main__":
    main()
