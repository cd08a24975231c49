"""Units as a person likes them; storage is always canonical."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Table, frozen

METRIC, IMPERIAL = "metric", "imperial"
LAMBDA, AFR = "lambda", "afr"
_IMPERIAL = {
    "kPa": ("psi", 1),
    "degC": ("degF", 0),
    "km/h": ("mph", 0),
    "g/s": ("lb/min", 1),
    "Nm": ("lb·ft", 0),
    "kW": ("hp", 0),
}
"""Unit shown instead, and digits after the point more than the unit that is stored needs."""
_MIXTURE_QUANTITIES = ("lambda_measured", "lambda_measured_2", "lambda_target")


@dataclass(frozen=True)
class DisplayUnits:
    """The units in which a person sees tables.

    Attributes:
        measures: `metric` or `imperial`.
        mixture: `lambda` or `afr`.
        stoichiometric: air-fuel ratio of the car's fuel at λ 1.
    """

    measures: str = METRIC
    mixture: str = LAMBDA
    stoichiometric: float = 14.7


@dataclass(frozen=True)
class Scale:
    """From a stored value to the shown one: value · factor + offset.

    Attributes:
        unit: as shown.
        decimals: digits after the point more than the stored unit's.
    """

    unit: str
    factor: float = 1.0
    offset: float = 0.0
    decimals: int = 0

    def shown(self, values: FloatArray) -> FloatArray:
        """Stored values as they are shown."""
        return values if self.plain else values * self.factor + self.offset

    def stored(self, values: FloatArray) -> FloatArray:
        """Shown values as they are stored."""
        return values if self.plain else (values - self.offset) / self.factor

    @property
    def plain(self) -> bool:
        """Whether values are shown as they are stored."""
        return self.factor == 1.0 and self.offset == 0.0


def scale_of(unit: str, display: DisplayUnits, *, mixture: bool = False) -> Scale:
    """How values of a unit are shown to a person; `mixture` says that a number without unit is a λ."""
    if mixture and display.mixture == AFR and unit in ("1", "", "λ"):
        return Scale("AFR", display.stoichiometric, 0.0, -1)
    if display.measures == IMPERIAL and unit in _IMPERIAL:
        other, decimals = _IMPERIAL[unit]
        ends = convert(np.array([0.0, 1.0]), unit, "lb-ft" if other == "lb·ft" else other)
        return Scale(other, float(ends[1] - ends[0]), float(ends[0]), decimals)
    return Scale(unit)


def _axis(axis: Axis, display: DisplayUnits) -> Axis:
    scale = scale_of(axis.unit, display, mixture=axis.quantity in _MIXTURE_QUANTITIES)
    return axis if scale.plain else Axis(axis.quantity, scale.unit, frozen(scale.shown(axis.breakpoints)))


def value_scale(table: Table, display: DisplayUnits) -> Scale:
    """How a table's values are shown to a person."""
    return scale_of(table.unit, display, mixture=table.role == "lambda_target")


def shown_table(table: Table, display: DisplayUnits) -> Table:
    """A table in the units a person likes; not for storing."""
    scale = value_scale(table, display)
    limits = [None if one is None else float(scale.shown(np.array(one))) for one in (table.minimum, table.maximum)]
    return replace(
        table,
        unit=scale.unit,
        x=_axis(table.x, display),
        y=_axis(table.y, display) if table.y is not None else None,
        values=table.values if scale.plain else frozen(scale.shown(table.values)),
        minimum=limits[0],
        maximum=limits[1],
        decimals=max(table.decimals + scale.decimals, 0),
    )
