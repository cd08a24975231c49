"""The piggyback between a meter and the controller: it lets out no more signal than its table says."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.tables.table import Calibration
from uchiwa.standin.lookup import Lookup


@dataclass(frozen=True)
class Clamp:
    """A clamp of the airflow signal.

    Attributes:
        table: signal out over engine speed and signal in.
        clamps: whether it holds anything back at all.
    """

    table: Lookup
    clamps: bool

    @classmethod
    def of(cls, calibration: Calibration) -> Clamp | None:
        """The clamp of a calibration that has one."""
        tables = calibration.by_role("airflow_clamp")
        if not tables or tables[0].y is None:
            return None
        given = tables[0].y.breakpoints[:, None]
        return cls(Lookup.of(tables[0]), bool((tables[0].grid < given - 0.02).any()))

    def __call__(self, speed: float, signal: float) -> float:
        """What the controller sees of a signal."""
        return self.table(speed, signal)
