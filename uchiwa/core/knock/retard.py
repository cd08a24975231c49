"""Retard as degrees taken out: of all cylinders together, and what the controller has learned to hold back."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.spark_quantities import KNOCK_BY_CYLINDER

LEARNED = "learned_knock_retard"
MOMENTARY = ("knock_retard", *KNOCK_BY_CYLINDER)
RETARDS = (*MOMENTARY, LEARNED)
"""Every quantity that tells spark taken out for knock."""

_BOTH_WAYS = 0.4
_TELLING = 0.5
_HARDLY = 0.1
_ALWAYS, _ENOUGH = 0.98, 20


def cylinder_of(quantity: str) -> int:
    """The number of the cylinder that a quantity is about; 0 if it is about all of them."""
    return KNOCK_BY_CYLINDER.index(quantity) + 1 if quantity in KNOCK_BY_CYLINDER else 0


def degrees_out(values: FloatArray, quantity: str = "knock_retard") -> FloatArray:
    """Readings as degrees taken out, over nought, for loggers write them with either sign.

    What a controller has learned can also be spark given: where a channel goes both ways, the readings below nought are
    what it takes out, as every correction of spark is written.
    """
    finite = values[np.isfinite(values)]
    if quantity == LEARNED and finite.size and finite.min() < -_BOTH_WAYS and finite.max() > _BOTH_WAYS:
        return np.maximum(-values, 0.0)
    return np.abs(values)


def includes_learned(momentary: FloatArray, learned: FloatArray) -> bool:
    """Whether a controller's retard is told with what it has learned in it: then it is hardly ever less than that.

    Args:
        momentary, learned: degrees out at the same moments; shape (n,).
    """
    telling = (learned > _TELLING) & np.isfinite(momentary)
    if int(telling.sum()) < _ENOUGH:
        return False
    return float((momentary[telling] >= learned[telling] - _HARDLY).mean()) >= _ALWAYS


def total_retard(signals: Mapping[str, FloatArray]) -> FloatArray | None:
    """Degrees of spark held back at each sample, momentary and learned together; shape (n,). None if neither is recorded.

    Args:
        signals: on one time base, as `on_one_base` gives them.
    """
    momentary, learned = signals.get("knock_retard"), signals.get(LEARNED)
    if momentary is None or learned is None:
        return learned if momentary is None else momentary
    if includes_learned(momentary, learned):
        return np.fmax(momentary, learned)
    return np.nan_to_num(momentary) + np.nan_to_num(learned)
