"""How quick a two-hour log opens, in the store and in the browser."""

from __future__ import annotations

import statistics
import time
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np
from playwright.sync_api import Page

from bench.place import own_database, signed_in
from uchiwa.core.formulas.evaluation import evaluate
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.viewing.window import MOST_POINTS, drawn
from uchiwa.standin.cars import pike_base
from uchiwa.store import jobs, levels, log_states, samples, stored_log
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile
from uchiwa.store.stored_log import StoredLog

ROWS, RATE, CHANNELS = 360_000, 50, 40
SIX = ("engine_speed", "throttle_position", "manifold_pressure", "lambda_measured", "lambda_target", "short_term_trim")
TWELVE = (
    "engine_speed,throttle_position,injector_duty;manifold_pressure,barometric_pressure,spark_advance;"
    "lambda_measured,lambda_target,coolant_temperature;short_term_trim,long_term_trim,knock_retard"
)
FRAMES = 40


def long_log() -> Log:
    """Two hours at 50 Hz: 40 channels that wander within their physical ranges, with decimals as loggers write them."""
    rng = np.random.default_rng(8)
    ids = [*dict.fromkeys((*SIX, *TWELVE.replace(";", ",").split(","), *QUANTITIES))][:CHANNELS]
    channels = []
    for name in ids:
        known = QUANTITIES[name]
        walk = np.cumsum(rng.normal(0, 1, ROWS // 10))
        walk = np.interp(np.arange(ROWS), np.arange(ROWS // 10) * 10, walk) + rng.normal(0, 2, ROWS)
        share = (walk - walk.min()) / (walk.max() - walk.min())
        digits = 0 if known.high > 1000 else 1 if known.high > 20 else 3
        channels.append(
            Channel(known.title, known.unit, np.round(known.low + share * (known.high - known.low), digits), name)
        )
    return Log("two hours.csv", (Raster(np.round(np.arange(ROWS) / RATE, 2), tuple(channels)),))


@contextmanager
def stored() -> Iterator[tuple[LogFile, str]]:
    """The log in a database of its own, and the address of its reading page."""
    with own_database() as user:
        with unit_of_work():
            job = jobs.create(user, "Customer", "Corvid Pike", "", pike_base())
            log = LogFile.create(
                job=job, round=jobs.rounds(job)[0], name="two hours.csv", size=1, content_hash="0",
                state=log_states.READY, duration_s=ROWS / RATE, uploaded_at=now(),
            )  # fmt: skip
        samples.write(log, long_log())
        yield log, f"/jobs/{job.id}/rounds/1/read?log={log.id}"


def _median(work: object, repeats: int = 9) -> float:
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        work()  # type: ignore[operator]
        times.append((time.perf_counter() - begun) * 1000)
    return statistics.median(times)


def rows() -> list[tuple[str, float, str]]:
    """First strips and other zooms against decoding the same channels whole, and the browser's frames."""
    with stored() as (log, address):
        begun = time.perf_counter()
        levels.build(log)
        built = (time.perf_counter() - begun) * 1000

        def whole() -> None:
            with unit_of_work():
                samples.read([log], SIX)

        def view(start: float, end: float) -> int:
            stored_log.forget()
            with unit_of_work():
                opened = StoredLog(log, SIX)
                opened.fetch(SIX, start, end, MOST_POINTS)
                lines = [drawn(opened.time_of(key), opened.signals[key], start, end) for key in SIX]
            return max(line.time.size for line in lines)

        length = ROWS / RATE
        decoded = _median(whole)
        found = [
            (f"decode 6 channels of {ROWS:,} × {CHANNELS} whole", decoded, ""),
            ("pyramids of all channels, once after the import", built, ""),
        ]
        for words, start, end in (
            ("first strips, 6 traces, the whole log", 0.0, length),
            ("  half an hour of it", 1800.0, 3600.0),
            ("  two minutes of it", 3000.0, 3120.0),
        ):
            points = view(start, end)
            took = _median(lambda start=start, end=end: view(start, end))
            found.append((words, took, f"{decoded / took:.0f}× quicker than whole, {points} points a trace"))
        with unit_of_work():
            recording = samples.read([log], ("engine_speed", "manifold_pressure", "barometric_pressure"))[0]
        signals = {name: one.values for name, one in recording.quantities.items()}
        at = recording.rasters[0].time
        formula = "smooth(rate(engine_speed), 0.5) * manifold_pressure / barometric_pressure"
        found.append((f"a computed channel over {ROWS:,} samples", _median(lambda: evaluate(formula, signals, at)), ""))
        return found + browser_rows(address)


def browser_rows(address: str) -> list[tuple[str, float, str]]:
    """Open to first draw, and the scripting of pan and zoom frames with 12 traces in 4 strips; medians."""
    with signed_in() as page:
        return _frames(page, address)


def _frames(page: Page, address: str) -> list[tuple[str, float, str]]:
    first = []
    for show in (",".join(SIX[:2]) + ";" + ";".join(SIX[2:]), TWELVE):
        opened = []
        for _ in range(5):
            page.goto(f"{address}&show={show}")
            page.locator("main[data-ready='yes']").wait_for()
            opened.append(page.evaluate("performance.getEntriesByName('first strips')[0].startTime"))
        first.append(statistics.median(opened))
    box = page.locator(".strips-hit").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + 80
    page.mouse.move(x, y)
    for _ in range(8):
        page.mouse.wheel(0, -240)
    page.wait_for_timeout(600)
    drawn_frames = {}
    for what in ("pan", "zoom"):
        page.evaluate("performance.clearMeasures()")
        if what == "pan":
            page.mouse.down()
        for number in range(FRAMES):
            if what == "pan":
                page.mouse.move(x + 5 * (number % 20), y)
            else:
                page.mouse.wheel(0, 60 if number % 2 else -60)
            page.wait_for_timeout(25)
        if what == "pan":
            page.mouse.up()
        times = page.evaluate("performance.getEntriesByName('strips frame').map((one) => one.duration)")
        drawn_frames[what] = (statistics.median(times), max(times), len(times))
    return [
        ("browser: open to first draw, 6 traces", first[0], "from navigation, sign-in aside"),
        ("browser: open to first draw, 12 traces in 4 strips", first[1], ""),
        *(
            (f"browser: scripting of a {what} frame, 12 traces", median, f"longest of {count}: {longest:.1f} ms")
            for what, (median, longest, count) in drawn_frames.items()
        ),
    ]


def main() -> None:
    """Print one table."""
    print(f"{'what':<56} {'median ms':>10}")
    for words, milliseconds, ratio in rows():
        print(f"{words:<56} {milliseconds:>10.1f}  {ratio}")


if __name__ == "__main__":
    main()
