"""What changing conditions add to the fuel error: wall film, and trims that follow slowly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core import kernels
from uchiwa.core.log import FloatArray, IntArray
from uchiwa.core.signal import rate, smooth
from uchiwa.core.surface import fit_surface
from uchiwa.core.table import Table

FILM_TIME_S = 0.3
_TRIM_WINDOW_S = 1.0
_LEAST_AIRFLOW = 0.3
_SURE = 2.0
_MOST = 0.25


@dataclass(frozen=True)
class Transient:
    """An effect estimated from the logs.

    Attributes:
        words: what it is.
        slope: error per unit of its signal.
        slope_error: standard error of that.
        largest_percent: how much it changes the error at most, %, in 95 of 100 samples.
    """

    words: str
    slope: float
    slope_error: float
    largest_percent: float


WALL_FILM = "wall film"
SLOW_TRIMS = "trims still following"


def film_signal(time: FloatArray, airflow: FloatArray, target: FloatArray) -> FloatArray:
    """How far the fuel demand is ahead of its own recent past: ln F − lag(ln F), F being airflow over λ target.

    While the demand rises part of the fuel stays on the walls, and the mixture runs lean by about that in proportion;
    falling, rich. For small changes this is what Aquino's X-τ film (SAE 810494) leaves uncompensated, with τ taken as
    0.3 s.

    Args:
        time: s, rising; shape (n,).
        airflow: g/s.
        target: λ target.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        demand = np.log(np.maximum(airflow, _LEAST_AIRFLOW) / target)
    ahead: FloatArray = demand - kernels.lagged(time, np.ascontiguousarray(demand), FILM_TIME_S)
    return np.nan_to_num(ahead)


def trim_signal(time: FloatArray, trims: FloatArray) -> FloatArray:
    """Rate of the trims, 1/s: a loop that is still correcting has not yet arrived at what it will hold.

    With trims that follow the true error with a time τ, the error is trims + τ · rate; the trims are smoothed over a
    second first, for they come in steps.

    Args:
        time: s, rising; shape (n,).
        trims: short- and long-term together, as a fraction.
    """
    return np.nan_to_num(rate(time, smooth(time, trims, _TRIM_WINDOW_S), _TRIM_WINDOW_S))


def estimate_transients(
    table: Table,
    x: FloatArray,
    y: FloatArray | None,
    error: FloatArray,
    breaks: IntArray,
    signals: dict[str, FloatArray],
) -> tuple[Transient, ...]:
    """How strongly each signal shows in the error, found together with the surface; unclear ones are dropped.

    Args:
        table: gives the axes.
        x, y, error, breaks: of the used samples, see `fit_surface`; shape (n,).
        signals: by words, each of shape (n,).
    """
    if error.size < 200 or not signals:
        return ()
    surface = fit_surface(table, x, y, error, breaks, list(signals.values()))
    found = []
    for (words, signal), slope, uncertain in zip(signals.items(), surface.slopes, surface.slope_errors, strict=True):
        if abs(slope) > _SURE * uncertain:
            largest = float(np.quantile(np.abs(slope * signal), 0.95)) * 100
            found.append(Transient(words, slope, uncertain, largest))
    return tuple(found)


def transient_factor(found: tuple[Transient, ...], signals: dict[str, FloatArray], size: int) -> FloatArray:
    """What the error is multiplied with to be rid of the transients; shape (n,)."""
    ahead = np.zeros(size)
    for one in found:
        ahead += one.slope * signals[one.words]
    return 1.0 - np.clip(ahead, -_MOST, _MOST)
