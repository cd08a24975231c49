"""The sheets of the Idle station over a table: idle airflow, and the warm-up factor."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.idle.moments import TITLES as IDLE_TITLES
from uchiwa.core.idle.moments import Gear
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.logs.signal import smooth
from uchiwa.core.proposals.idle_air import explanation as idle_explanation
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.idle_air.report import report as idle_report
from uchiwa.core.proposals.sample_account import LogShare, Moment, thinned
from uchiwa.core.proposals.warm_up import explanation as warm_explanation
from uchiwa.core.proposals.warm_up.evidence import TITLES as WARM_TITLES
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.proposals.warm_up.report import report as warm_report
from uchiwa.core.quantities.units import convert
from uchiwa.core.viewing.ticks import number_text
from uchiwa.services.idle import (
    AS_IDLE,
    AS_WARM_UP,
    IDLE_AIR,
    WARM_UP,
    IdleAirWork,
    WarmUpWork,
    idle_air_work,
    warm_up_work,
)
from uchiwa.store.models import LogFile
from uchiwa.web.drawer.moments_picture import Moments, title_of
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.proposal_grid import TableView, drawn_grid, table_view
from uchiwa.web.pages import duration
from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.proposal_sheets.sieve import SampleTimes, left_out_moments, sieve_parts
from uchiwa.web.stations.idle.curve_picture import Backdrop, DrawnTable, curve_picture

_DOTS, _COURSE_POINTS = 500, 400
_FULL_AIR_GS, _FULL_FACTOR = 2.0, 12.0
_AIR_KEYS = (
    "source", "strength", "limit_gs", "dead_band_gs", "minimum_dwell_s", "within_rpm", "settle_s", "after_start_s",
    "unmeasured_gear", "offset_gs", "unreached",
)  # fmt: skip
_WARM_KEYS = (
    "strength", "limit_percent", "dead_band_percent", "minimum_dwell_s", "warm_from", "after_start_s", "use_trims",
    "target", "unreached",
)  # fmt: skip
_AIR_TRACES = ("engine_speed", "idle_airflow_target", "coolant_temperature", "target_idle_speed", "airflow")
_WARM_TRACES = ("lambda_measured", "coolant_temperature", "lambda_target", "engine_speed", "short_term_trim")
_CLOCKS_S = (30.0, 60.0, 120.0, 240.0, 480.0, 900.0)


def _air_grid(found: IdleAirWork, view: TableView, waiting: BoolArray) -> Grid:
    proposal = found.proposal
    full = float(convert(np.array(_FULL_AIR_GS), "g/s", proposal.table.unit))
    draw = table_view(proposal.table, proposal.after, view, full, proposal.table.decimals)
    dwell = np.array([curve.fit.dwell for curve in proposal.curves])
    return drawn_grid(proposal.table, dwell, proposal.state, waiting, draw)


def _most_moved(table: FloatArray, after: FloatArray, dwell: FloatArray) -> tuple[int, int]:
    """The cell (i, j) to show first: where most is changed on evidence, else where most was seen."""
    weight = np.abs(after - table) * (dwell > 0)
    best = weight if weight.max() > 0 else dwell
    j, i = np.unravel_index(int(np.argmax(best)), best.shape)
    return int(i), int(j)


def _air_first(found: IdleAirWork) -> tuple[int, int]:
    proposal = found.proposal
    return _most_moved(proposal.table.grid, proposal.after, np.array([curve.fit.dwell for curve in proposal.curves]))


def _air_more(found: IdleAirWork, i: int, j: int) -> dict[str, Any]:
    proposal, evidence = found.proposal, found.proposal.evidence
    gear = proposal.curve(j).gear
    looks = {Gear.NEUTRAL: "neutral", Gear.IN_GEAR: "geared"}
    dots: list[tuple[float, float, str]] = []
    for curve in proposal.curves:
        at = thinned(evidence.of(curve.gear), _DOTS)
        look = looks[curve.gear] + ("" if curve.gear is gear else " is-other")
        dots += [(float(a), float(b), look) for a, b in zip(evidence.coolant[at], evidence.air[at], strict=True)]
    drawn = DrawnTable(
        proposal.table, proposal.after, proposal.state,
        [curve.fit for curve in proposal.curves], [curve.moved.reached for curve in proposal.curves],
    )  # fmt: skip
    return {
        "account": idle_explanation.explain(proposal, j, i),
        "picture": curve_picture(drawn, j, Backdrop(dots=dots)),
        "gears": [curve.gear for curve in proposal.curves],
        "sieve": sieve_parts(evidence.sieve, evidence.left_out(), IDLE_TITLES),
        "samples_in_all": int(evidence.time.size),
        "no_flag": not all("after_start_active" in log.quantities for log in found.context.logs),
    }


def _of_most(rows: tuple[LogFile, ...], logs: tuple[LogShare, ...], moments: tuple[Moment, ...]) -> tuple[LogFile, list[tuple[float, float]]]:  # fmt: skip
    """The log that gave most to a value, and when."""
    if not logs:
        return rows[0], []
    number = max(logs, key=lambda log: log.samples).number
    return rows[number], [(moment.start, moment.end) for moment in moments if moment.log == number]


def _air_moments(found: IdleAirWork, i: int, j: int) -> Moments:
    account = idle_explanation.explain(found.proposal, j, i)
    row, spans = _of_most(found.rows, account.logs, account.moments)
    return Moments(row, spans, _AIR_TRACES, title_of(row, spans, "at idle near this temperature"))


def _air_left_out(found: IdleAirWork, reason: str) -> Moments:
    evidence = found.proposal.evidence
    times = SampleTimes(found.rows, evidence.log, evidence.time)
    return left_out_moments(times, evidence.sieve, reason, _reason_words(reason, IDLE_TITLES), _AIR_TRACES)


def _reason_words(reason: str, titles: dict[str, tuple[str, str]]) -> str:
    return "with samples that are used" if reason == "used" else f"left out: {titles.get(reason, (reason,))[0]}"


AIR = TableSheet(
    "air", IDLE_AIR, AS_IDLE, IdleAirPolicy, _AIR_KEYS, TableView, TableView.PROPOSED, idle_air_work,
    _air_grid, _air_first, _air_more, lambda found: idle_report(found.proposal), _air_moments, _air_left_out,
    after_taking="proposed",
)  # fmt: skip


def _warm_grid(found: WarmUpWork, view: TableView, waiting: BoolArray) -> Grid:
    proposal = found.proposal
    draw = table_view(proposal.table, proposal.after, view, _FULL_FACTOR, proposal.table.decimals)
    return drawn_grid(proposal.table, proposal.fit.dwell[None, :], proposal.state, waiting, draw)


def _warm_first(found: WarmUpWork) -> tuple[int, int]:
    proposal = found.proposal
    return _most_moved(proposal.table.grid, proposal.after, proposal.fit.dwell[None, :])


def _warm_more(found: WarmUpWork, i: int, _j: int) -> dict[str, Any]:
    proposal, evidence = found.proposal, found.proposal.evidence
    drawn = DrawnTable(proposal.table, proposal.after, proposal.state, [proposal.fit], [proposal.moved.reached])
    return {
        "account": warm_explanation.explain(proposal, i),
        "picture": curve_picture(drawn, 0, _warming(found)),
        "sieve": sieve_parts(evidence.sieve, evidence.left_out(), WARM_TITLES),
        "samples_in_all": int(evidence.time.size),
        "after_starts": evidence.after_starts,
        "cold": _cold_target(found),
    }


def _warming(found: WarmUpWork) -> Backdrop:
    """Each log's warming as a path through time, after-start apart, with the time beside it."""
    evidence = found.proposal.evidence
    reasons = evidence.sieve.reasons
    late = reasons.index("after_start") if "after_start" in reasons else -2
    courses: list[tuple[FloatArray, FloatArray, str]] = []
    clocks: list[tuple[float, float, str]] = []
    for number in range(len(evidence.names)):
        mine = evidence.log == number
        time, coolant = evidence.time[mine], evidence.coolant[mine]
        verdict, factor = evidence.sieve.verdict[mine], evidence.factor[mine]
        used, after_start = verdict < 0, verdict == late
        calm = smooth(time, np.where(used | after_start, factor, np.nan), 2.0)
        courses += [_thin(coolant, calm, used, "is-warming"), _thin(coolant, calm, after_start, "is-late")]
        known = np.isfinite(calm) & (used | after_start)
        if number < len(evidence.names) - 1 or not known.any():
            continue  # times stand beside one of them, so that they do not hide each other
        begun = float(time[known][0])
        for seconds in _CLOCKS_S:
            at = int(np.searchsorted(time, begun + seconds))
            if at < time.size and known[at]:
                clocks.append((float(coolant[at]), float(calm[at]), duration(seconds)))
    return Backdrop(courses=courses, clocks=clocks)


def _thin(coolant: FloatArray, value: FloatArray, mask: BoolArray, look: str) -> tuple[FloatArray, FloatArray, str]:
    """A course's points, evenly thinned, broken where they are left out."""
    step = max(1, int(mask.sum()) // _COURSE_POINTS)
    places: IntArray = np.arange(0, value.size, step, dtype=np.int64)
    return coolant[places], np.where(mask, value, np.nan)[places], look


def _cold_target(found: WarmUpWork) -> dict[str, Any] | None:
    """The cold target beside the factor: λ at each temperature, and where it is edited."""
    table = found.cold_target
    if table is None:
        return None
    offsets = convert(table.grid[0], table.unit, "1")
    return {"table": table, "points": [number_text(breakpoint_) for breakpoint_ in table.x.breakpoints.tolist()], "offsets": [f"{offset:+.3f}".replace("-", "−") if offset else "0" for offset in offsets]}  # fmt: skip


def _warm_moments(found: WarmUpWork, i: int, _j: int) -> Moments:
    account = warm_explanation.explain(found.proposal, i)
    row, spans = _of_most(found.rows, account.logs, account.moments)
    return Moments(row, spans, _WARM_TRACES, title_of(row, spans, "of warming near this temperature"))


def _warm_left_out(found: WarmUpWork, reason: str) -> Moments:
    evidence = found.proposal.evidence
    times = SampleTimes(found.rows, evidence.log, evidence.time)
    return left_out_moments(times, evidence.sieve, reason, _reason_words(reason, WARM_TITLES), _WARM_TRACES)


WARM = TableSheet(
    "warm-up", WARM_UP, AS_WARM_UP, WarmUpPolicy, _WARM_KEYS, TableView, TableView.PROPOSED, warm_up_work,
    _warm_grid, _warm_first, _warm_more, lambda found: warm_report(found.proposal), _warm_moments, _warm_left_out,
    after_taking="proposed",
)  # fmt: skip
