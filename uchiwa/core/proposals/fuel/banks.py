"""Two banks made one: what says nothing is left out before they are averaged."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.conditions import Limits
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import held

_FEWEST = 30
_STILL = 1e-6
_MOVES = 0.003


@dataclass(frozen=True, eq=False)
class Banks:
    """A quantity of both banks, on one time base.

    Attributes:
        values: their mean; where one of them says nothing the other, moved by half of their usual difference; NaN where
            neither does. Shape (n,).
        raw: their mean with nothing left out; shape (n,).
        notes: what was left out altogether, as sentences.
    """

    values: FloatArray
    raw: FloatArray
    notes: tuple[str, ...] = ()


def still(values: FloatArray) -> bool:
    """Whether a channel that should move never did."""
    finite = values[np.isfinite(values)]
    return finite.size < _FEWEST or float(np.ptp(finite)) <= _STILL


def _moves(values: FloatArray) -> bool:
    finite = values[np.isfinite(values)]
    return finite.size >= _FEWEST and float(np.std(finite)) > _MOVES


def at_rail(time: FloatArray, mixture: FloatArray, limits: Limits) -> BoolArray:
    """Where a mixture sensor is at an end of its range, or just returning from it; shape (n,)."""
    beyond = (mixture <= limits.rich_rail) | (mixture >= limits.lean_rail)
    return held(time, beyond, limits.rail_recovery_s)


def joined(array: FloatArray, two: FloatArray, raw: tuple[FloatArray, FloatArray], name: str) -> Banks:
    """Both banks' readings joined; a bank without a reading that changes does not count if the other's does.

    Args:
        one, two: readings with NaN where they say nothing; shape (n,).
        raw: the same with nothing left out.
        name: of the quantity, for the notes.
    """
    for dead, alive, seen, number in ((two, array, raw[0], 2), (array, two, raw[1], 1)):
        if still(dead) and _moves(alive):
            return Banks(alive, seen, (f"{name} of bank {number} never moved: it was left out",))
    both = np.isfinite(array) & np.isfinite(two)
    apart = float(np.median((two - array)[both])) if both.sum() >= _FEWEST else 0.0
    values = np.where(
        both,
        (array + two) / 2,
        np.where(np.isfinite(array), array + apart / 2, np.where(np.isfinite(two), two - apart / 2, np.nan)),
    )
    return Banks(values, _mean(*raw))


def _mean(array: FloatArray, two: FloatArray) -> FloatArray:
    return np.where(np.isfinite(array), np.where(np.isfinite(two), (array + two) / 2, array), two)


def mixture(time: FloatArray, signals: dict[str, FloatArray], limits: Limits, *, rails: bool) -> Banks | None:
    """Measured mixture of both banks, each rid of what it reads at its rail before they are averaged.

    Args:
        time: s, rising; shape (n,).
        signals: by quantity id, each of shape (n,).
        limits: where the sensor's range ends.
        rails: whether readings at the rail are left out.
    """
    banks = [signals[one] for one in ("lambda_measured", "lambda_measured_2") if one in signals]
    if not banks:
        return None
    clean = [np.where(at_rail(time, bank, limits), np.nan, bank) if rails else bank for bank in banks]
    if len(banks) == 1:
        return Banks(clean[0], banks[0])
    return joined(clean[0], clean[1], (banks[0], banks[1]), "the measured mixture")


def trim(signals: dict[str, FloatArray], quantity: str) -> Banks | None:
    """A trim of both banks as a fraction."""
    banks = [signals[one] / 100.0 for one in (quantity, f"{quantity}_2") if one in signals]
    if not banks:
        return None
    if len(banks) == 1:
        return Banks(banks[0], banks[0])
    return joined(
        banks[0],
        banks[1],
        (banks[0], banks[1]),
        "the short-term trim" if quantity == "short_term_trim" else "the long-term trim",
    )


def difference(signals: dict[str, FloatArray], short: bool, long: bool) -> FloatArray | None:
    """Error of bank 2 over that of bank 1, less 1; None unless both banks were recorded; shape (n,).

    Args:
        signals: by quantity id.
        short, long: whether short- and long-term trims belong to the error.
    """
    ratio: FloatArray | None = None
    pairs = [("lambda_measured", 0.0, 1.0)]
    pairs += [("short_term_trim", 1.0, 100.0)] * short + [("long_term_trim", 1.0, 100.0)] * long
    for quantity, plus, scale in pairs:
        if quantity in signals and f"{quantity}_2" in signals:
            with np.errstate(invalid="ignore", divide="ignore"):
                one = (plus + signals[f"{quantity}_2"] / scale) / (plus + signals[quantity] / scale)
            ratio = one if ratio is None else ratio * one
    return None if ratio is None else ratio - 1.0
