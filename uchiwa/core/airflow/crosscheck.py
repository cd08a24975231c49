"""Air by meter, by speed density and by fuel, side by side: which one disagrees, and where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import figures
from uchiwa.core.evidence.conditions import RULES, Limits, Samples
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.tables.table import Axis, Calibration, frozen

METER, SPEED_DENSITY, BY_FUEL = "meter", "speed_density", "fuel"
TITLES = {METER: "airflow meter", SPEED_DENSITY: "speed density", BY_FUEL: "fuel and mixture"}
FLOW = Axis("airflow", "g/s", frozen([2, 3, 4.5, 6.5, 9, 13, 19, 27, 38, 55, 80, 115, 165, 235]))
APART_PERCENT = 3.0
_RULES = ("cold", "heat_soaked", "after_start", "overrun", "rail", "transient")
_LEAST_SAMPLES = 10


@dataclass(frozen=True, eq=False)
class AirOf:
    """One log's airflow by each way that it allows, in g/s.

    Attributes:
        name: of the log.
        time: s; shape (n,).
        air: by `METER`, `SPEED_DENSITY`, `BY_FUEL`; each of shape (n,), NaN where it cannot be told.
        lacking: why a way is not there.
        steady: warm and settled samples, the only ones compared; shape (n,).
    """

    name: str
    time: FloatArray
    air: dict[str, FloatArray]
    lacking: dict[str, str]
    steady: BoolArray


@dataclass(frozen=True)
class Disagreement:
    """A band of airflow in which one way stands apart from the other two.

    Attributes:
        way: which.
        low, high: the band, g/s.
        percent: how far it lies from the others, %.
    """

    way: str
    low: float
    high: float
    percent: float

    @property
    def sentence(self) -> str:
        """In plain words."""
        more = "more" if self.percent > 0 else "less"
        return f"{TITLES[self.way]} gives {abs(self.percent):.1f} % {more} than the others from {self.low:g} to {self.high:g} g/s"


@dataclass(frozen=True, eq=False)
class CrossCheck:
    """All logs together, over airflow.

    Attributes:
        flow: breakpoints the samples are gathered on, g/s; shape (m,).
        ways: the ways that could be compared.
        percent: by way, the mean deviation from the middle of them all, %; shape (m,), NaN without samples.
        samples: shape (m,).
        apart: where one stands apart.
        lacking: why a way is missing.
    """

    flow: FloatArray
    ways: tuple[str, ...]
    percent: dict[str, FloatArray]
    samples: FloatArray
    apart: tuple[Disagreement, ...]
    lacking: dict[str, str]


def meter_air(signals: Mapping[str, FloatArray], calibration: Calibration, name: str) -> FloatArray | None:
    """Airflow by the meter in g/s: its signal through the calibration's own curve, else as it was logged; or None."""
    for curve in calibration.by_role("maf_curve"):
        if curve.x.quantity in signals:
            return curve.lookup(axis_values(curve.x, signals, name))
    return signals.get("airflow")


def air_of(log: Log, calibration: Calibration, car: CarFile | None = None, book: Book = SHIPPED) -> AirOf:
    """Every airflow that a log allows."""
    time, signals = on_one_base(log)
    workings = Workings(time, signals, Scope(calibration, car, book))
    air: dict[str, FloatArray] = {}
    lacking: dict[str, str] = {}
    meter = meter_air(signals, calibration, log.name)
    if meter is not None:
        air[METER] = meter
    else:
        lacking[METER] = "neither the airflow nor the meter's signal was recorded"
    for way, channel in ((SPEED_DENSITY, "speed_density_air"), (BY_FUEL, "fuel_based_air")):
        try:
            air[way] = np.asarray(workings.value(channel), dtype=np.float64)
        except BadInput as error:
            lacking[way] = error.what
    samples = Samples(time, signals, Limits(), 1.0)
    out = samples.none()
    for rule in RULES:
        if rule.id in _RULES:
            out |= rule.finds(samples)
    return AirOf(log.name, time, air, lacking, ~out)


def cross_check(logs: Sequence[AirOf]) -> CrossCheck:
    """Compare the ways over airflow, on warm and settled samples.

    Each sample's middle is the median of its ways (of two, their mean), and each way is told by how far it is from it.
    A way stands apart in a bin if it is over 3 % from the nearer of the other two and these agree twice as well.
    """
    ways = tuple(way for way in TITLES if any(way in log.air for log in logs))
    lacking = {way: next(log.lacking[way] for log in logs) for way in TITLES if way not in ways}
    empty = np.full(FLOW.size, np.nan)
    if len(ways) < 2:
        return CrossCheck(FLOW.breakpoints, ways, dict.fromkeys(ways, empty), np.zeros(FLOW.size), (), lacking)
    every: list[FloatArray] = []
    for log in logs:
        stack = np.stack([log.air.get(way, np.full(log.time.shape, np.nan)) for way in ways])
        good = log.steady & np.isfinite(stack).all(axis=0) & (stack > 0).all(axis=0)
        every.append(stack[:, good])
    air = np.concatenate(every, axis=1)
    middle = np.median(air, axis=0)
    inside = FLOW.covers(middle)
    air, middle = air[:, inside], middle[inside]
    percent: dict[str, FloatArray] = {}
    count = np.zeros(FLOW.size)
    for way, values in zip(ways, air, strict=True):
        found = figures(FLOW, None, middle, None, (values / middle - 1) * 100)
        count = found.samples[0]
        percent[way] = np.where(count >= _LEAST_SAMPLES, found.mean[0], np.nan)
    return CrossCheck(FLOW.breakpoints, ways, percent, count, _apart(ways, percent), lacking)


def _odd_one(values: dict[str, float]) -> tuple[str, float] | None:
    """The way that stands apart from the other two, and by how much."""
    for way, own in values.items():
        others = [value for name, value in values.items() if name != way]
        if len(others) != 2 or not np.isfinite([own, *others]).all():
            continue
        nearest = min(abs(own - other) for other in others)
        if nearest > APART_PERCENT and nearest > 2 * abs(others[0] - others[1]):
            return way, own - sum(others) / 2
    return None


def _apart(ways: tuple[str, ...], percent: dict[str, FloatArray]) -> tuple[Disagreement, ...]:
    """Neighbouring bins with the same odd one out are one band."""
    if len(ways) < 3:
        return ()
    bands: list[tuple[str, int, int, list[float]]] = []
    for at in range(FLOW.size):
        odd = _odd_one({way: float(percent[way][at]) for way in ways})
        if odd is None:
            continue
        way, size = odd
        if bands and bands[-1][0] == way and bands[-1][2] == at - 1 and np.sign(bands[-1][3][-1]) == np.sign(size):
            bands[-1] = (way, bands[-1][1], at, [*bands[-1][3], size])
        else:
            bands.append((way, at, at, [size]))
    points = FLOW.breakpoints
    return tuple(
        Disagreement(way, float(points[first]), float(points[last]), float(np.mean(sizes)))
        for way, first, last, sizes in bands
    )


def largest_gap(check: CrossCheck) -> float:
    """The largest distance between two ways in any bin, %; 0 if none can be compared."""
    gaps = [np.abs(check.percent[a] - check.percent[b]) for a, b in combinations(check.ways, 2)]
    every = np.concatenate(gaps) if gaps else np.zeros(1)
    return float(np.nanmax(every)) if np.isfinite(every).any() else 0.0
