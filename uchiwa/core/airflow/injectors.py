"""What an injector delivers: its dead time by battery voltage, its flow by the pressure across it."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray


def dead_time_at(points: Sequence[tuple[float, float]], volts: FloatArray) -> FloatArray:
    """Dead time in ms at a battery voltage: between the measured points in a line, beyond them that of the nearest.

    Args:
        points: (volts, ms), as the injector's maker or a bench gives them; at least one, in any order.
        volts: of the battery, V; any shape.
    """
    ordered = sorted(points)
    at, time = (np.array(one, dtype=np.float64) for one in zip(*ordered, strict=True))
    return np.interp(volts, at, time)


def check_dead_times(points: Sequence[tuple[float, float]]) -> None:
    """Refuse dead times that no injector has.

    Raises:
        BadInput: a voltage stands twice, or a dead time grows with the voltage, which opens an injector the sooner.
    """
    ordered = sorted(points)
    for (volts, time), (next_volts, next_time) in itertools.pairwise(ordered):
        if volts == next_volts:
            raise BadInput(
                f"{volts:g} V stands twice among the dead times", where="dead_times", advice="keep one of them"
            )
        if next_time > time:
            raise BadInput(
                f"the dead time grows from {time:g} ms at {volts:g} V to {next_time:g} ms at {next_volts:g} V",
                where="dead_times",
                advice="a higher voltage opens an injector sooner: check the two numbers of each line",
            )


def flow_factor(difference: FloatArray, rated: float) -> FloatArray:
    """Flow of an injector over that at its rated pressure: √(Δp/Δp_rated), by Bernoulli's law through one opening.

    Args:
        difference: of pressure across the injector, kPa; any shape. NaN where it is not positive.
        rated: pressure difference at which its flow is stated, kPa.
    """
    with np.errstate(invalid="ignore"):
        return np.sqrt(np.where(difference > 0, difference, np.nan) / rated)
