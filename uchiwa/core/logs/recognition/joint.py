"""The channels of a log judged together: one unit system, pressures against each other, trims and mixtures alike.

Each channel may be read in some units. A unit that the file states weighs much, but not everything; what else the log shows
weighs for or against each. The reading that fits best is taken, with the second best beside it, and is in doubt where it
overrules a label, where nothing fits well, or where the second best fits nearly as well.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.recognition import plausible_units as fit
from uchiwa.core.logs.recognition.figures import Figures
from uchiwa.core.logs.recognition.plausible import AFR, AFR_PETROL
from uchiwa.core.logs.recognition.plausible_units import NEVER, ODD, Drive

STATED, USUAL, RARE = 6.0, 1.0, -1.5
"""Weight of a unit that the file states, of the quantity's own where it states none, and of what hardly any logger writes."""
ALIKE = 3.5
"""Weight of one unit system among the temperatures, or among the pressures, of a log."""
RATIOS_APART = 3.0
"""Weight against mixtures of one log that stand for different air-fuel ratios at λ 1."""
CLOSE_STATED, CLOSE = 3.0, 1.4
"""By less than this the second best is too near: where the file states a unit, and where it does not."""

TEMPERATURES = ("coolant_temperature", "intake_air_temperature", "oil_temperature")
TRIMS = ("short_term_trim", "short_term_trim_2", "long_term_trim", "long_term_trim_2")
MIXTURES = ("lambda_measured", "lambda_measured_2", "lambda_target")
SHARES = ("throttle_position", "pedal_position", "injector_duty")
_METRIC, _IMPERIAL = frozenset({"°C", "kPa", "bar", "mbar", "K"}), frozenset({"°F", "psi", "inHg"})
_MOST_TRIED = 4096


@dataclass(frozen=True)
class ReadingWay:
    """A way in which a channel may be read: its unit, and, of a pressure, whether it is a gauge's."""

    unit: str
    gauge: bool | None = None


@dataclass(frozen=True, eq=False)
class Candidate:
    """A channel with the ways in which it may be read.

    Attributes:
        quantity: its id.
        stated: whether the file states a unit.
        ways: with a weight each, the one taken so far first.
        canonical: readings in the canonical unit under each way; shape (n,) each.
    """

    quantity: str
    stated: bool
    ways: tuple[tuple[ReadingWay, float], ...]
    canonical: tuple[FloatArray, ...]


@dataclass(frozen=True)
class JudgedReading:
    """How a channel is read.

    Attributes:
        way: taken.
        second: the next best; None if there is but one that can be.
        close: whether the second best is too near to be sure.
        odd: whether even the way taken fits badly.
    """

    way: ReadingWay
    second: ReadingWay | None
    close: bool
    odd: bool


_Score = Callable[[Mapping[str, tuple[ReadingWay, Figures]]], float]


def judge(candidates: Sequence[Candidate], drive: Drive) -> list[JudgedReading]:
    """How each channel is read, all of them together.

    Groups that speak of each other are tried in every combination: temperatures, pressures, trims, mixtures; airflow and
    each share of full scale by itself, with what the others have become.
    """
    taken: dict[int, JudgedReading] = {}
    by_quantity = {candidate.quantity: number for number, candidate in enumerate(candidates)}

    def group(quantities: Sequence[str], score: _Score, *, alike: bool = False) -> None:
        mine = [by_quantity[one] for one in quantities if one in by_quantity]
        if mine:
            taken.update(_together([candidates[number] for number in mine], mine, score, alike=alike))

    group(TEMPERATURES, lambda read: _temperatures(read, drive))
    system = _system(taken)
    group(
        ("manifold_pressure", "barometric_pressure", "boost_pressure"), lambda read: _pressures(read, drive, system)
    )  # fmt: skip
    group(TRIMS, _trims, alike=True)
    group(MIXTURES, lambda read: _mixtures(read, drive))
    for quantity in SHARES:
        group((quantity,), lambda read: sum(fit.share(one, drive) for _, one in read.values()))
    group(("ethanol_content",), lambda read: sum(fit.ethanol(one) for _, one in read.values()))
    pressure = None
    if "manifold_pressure" in by_quantity:
        number = by_quantity["manifold_pressure"]
        pressure = _read(candidates[number], taken[number].way)
    group(("airflow",), lambda read: sum(fit.airflow(one, drive, pressure) for _, one in read.values()))
    return [
        taken[number] if number in taken else JudgedReading(candidate.ways[0][0], None, close=False, odd=False)
        for number, candidate in enumerate(candidates)
    ]


def _read(candidate: Candidate, way: ReadingWay) -> FloatArray:
    return next(values for (one, _), values in zip(candidate.ways, candidate.canonical, strict=True) if one == way)


def _together(
    group: Sequence[Candidate],
    numbers: Sequence[int],
    score: _Score,
    *,
    alike: bool,
) -> dict[int, JudgedReading]:
    """The combination of ways that fits best, and for each channel the best combination in which it is read otherwise.

    Where a logger writes all of a group alike, their labels count once together, and no reading is sure by a little.
    """
    ranges = [range(len(candidate.ways)) for candidate in group]
    if np.prod([len(range_) for range_ in ranges]) > _MOST_TRIED:
        ranges = [range(min(len(range_), 3)) for range_ in ranges]
    scored: list[tuple[float, tuple[int, ...]]] = []
    figures = [[Figures(values) for values in candidate.canonical] for candidate in group]
    for chosen in product(*ranges):
        read = {
            candidate.quantity: (candidate.ways[at][0], mine[at])
            for candidate, mine, at in zip(group, figures, chosen, strict=True)
        }
        weight = sum(candidate.ways[at][1] for candidate, at in zip(group, chosen, strict=True)) / (
            len(group) if alike else 1
        )
        scored.append((weight + score(read), chosen))
    scored.sort(key=lambda one: -one[0])
    best, chosen = scored[0]
    weights = sum(candidate.ways[at][1] for candidate, at in zip(group, chosen, strict=True)) / (
        len(group) if alike else 1
    )
    fits = best - weights
    found: dict[int, JudgedReading] = {}
    for place, (number, candidate) in enumerate(zip(numbers, group, strict=True)):
        at = chosen[place]
        others = [(total, tried[place]) for total, tried in scored if tried[place] != at]
        second, close = None, False
        if others and others[0][0] > best + NEVER:
            second = candidate.ways[others[0][1]][0]
            same = np.allclose(
                candidate.canonical[at], candidate.canonical[others[0][1]], rtol=0.004, atol=1e-6, equal_nan=True
            )
            close = not same and best - others[0][0] < (CLOSE_STATED if candidate.stated or alike else CLOSE)
        found[number] = JudgedReading(candidate.ways[at][0], second, close, fits <= ODD)
    return found


def _temperatures(read: Mapping[str, tuple[ReadingWay, Figures]], drive: Drive) -> float:
    total, units = 0.0, []
    for quantity, (way, values) in read.items():
        units.append(way.unit)
        total += fit.intake_air(values, drive) if quantity == "intake_air_temperature" else fit.coolant(values, drive)
    if "coolant_temperature" in read and "intake_air_temperature" in read:
        air, water = (read[one][1].median for one in ("intake_air_temperature", "coolant_temperature"))
        total -= 2.0 * (air > water + 15)
    return total + ALIKE * (len(units) - len(set(units)))


def _system(taken: Mapping[int, JudgedReading]) -> frozenset[str] | None:
    """The unit system that the temperatures speak for."""
    units = {judged.way.unit for judged in taken.values()}
    if units and units <= _IMPERIAL:
        return _IMPERIAL
    return _METRIC if units and units <= _METRIC else None


def _pressures(read: Mapping[str, tuple[ReadingWay, Figures]], drive: Drive, system: frozenset[str] | None) -> float:
    total, ambient = 0.0, 99.0
    if "barometric_pressure" in read:
        barometer = read["barometric_pressure"][1]
        total += fit.barometer(barometer)
        ambient = barometer.median if barometer.finite.size else ambient
    if "manifold_pressure" in read:
        total += fit.intake_pressure(read["manifold_pressure"][1], drive, ambient)
    if "boost_pressure" in read:
        total += fit.boost(read["boost_pressure"][1], drive)
    units = [way.unit for way, _ in read.values()]
    total += 0.5 * (len(units) - len(set(units)))
    if system is not None:
        total += 0.5 * sum(unit in system for unit in units)
    return total


def _mixtures(read: Mapping[str, tuple[ReadingWay, Figures]], drive: Drive) -> float:
    """Mixtures together: one logger hardly multiplies one λ by petrol's ratio and another by the fuel's own."""
    total = sum(fit.mixture(one, drive) for _, one in read.values())
    ratios = {way.unit for way, _ in read.values() if way.unit in (AFR, AFR_PETROL)}
    total -= RATIOS_APART * (len(ratios) - 1 if ratios else 0)
    if "lambda_target" in read:
        total += fit.target(read["lambda_target"][1])
    return total


def _trims(read: Mapping[str, tuple[ReadingWay, Figures]]) -> float:
    kinds = {way.unit for way, _ in read.values()}
    short = any(one.startswith("short_term") for one in read)
    return fit.trims([one for _, one in read.values()], short=short) - 8.0 * (len(kinds) - 1)
