"""How a stand-in's controller idles by its table: airflow by coolant and gear, an integral, and spark."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.tables.table import Calibration
from uchiwa.standin.engine import orifice_flow
from uchiwa.standin.lookup import Lookup

IDLE_SPARK = 15.0
_INTEGRAL, _MOST_GS = 0.0004, 1.4
_SPARK_PER_RPM, _MOST_SPARK = 0.03, 6.0
_IDLES_BELOW_RPM = 600.0
_CHOKED = 0.5


@dataclass
class IdleControl:
    """Idle airflow by table, an integral that trims it, and spark that answers at once.

    Attributes:
        table: g/s over coolant, and over in gear or not.
        actuator: air that comes for each gram that is asked for, hidden from the calibration.
        integral: what the control has added, g/s.
        desired: what it asks for, g/s.
        position: of its valve, %.
    """

    table: Lookup
    actuator: float
    integral: float = 0.0
    desired: float = 0.0
    position: float = 0.0

    @classmethod
    def of(cls, calibration: Calibration, actuator: float) -> IdleControl | None:
        """The control of a calibration that has a table of idle airflow, else None."""
        tables = calibration.by_role("idle_airflow")
        return cls(Lookup.of(tables[0]), actuator) if tables else None

    @staticmethod
    def target(coolant: float) -> float:
        """The idle speed that is wanted, rpm."""
        return 850.0 + 5.0 * max(0.0, 70.0 - coolant)

    def area(self, speed: float, coolant: float, in_gear: bool, dt: float, at: tuple[float, float, bool]) -> float:
        """The opening that lets the desired air in, mm².

        Args:
            speed: rpm.
            coolant: degC.
            in_gear: whether the gearbox pulls.
            dt: s.
            at: barometer in kPa, intake air in degC, and whether the pedal is at rest.
        """
        barometer, intake_air, resting = at
        off = self.target(coolant) - speed
        if resting and abs(off) < _IDLES_BELOW_RPM and speed > 400.0:
            self.integral = min(max(self.integral + _INTEGRAL * off * dt, -_MOST_GS), _MOST_GS)
        self.desired = max(self.table(coolant, 1.0 if in_gear else 0.0) + self.integral, 0.3)
        unit = orifice_flow(1.0, barometer, _CHOKED * barometer, intake_air)
        opened = self.desired * self.actuator / unit
        self.position = min(100.0, opened / 0.9)
        return opened

    def spark(self, speed: float, coolant: float) -> float:
        """Spark at idle, degrees before top dead centre: more when the engine is slow, less when it is fast."""
        off = self.target(coolant) - speed
        return IDLE_SPARK + min(max(off * _SPARK_PER_RPM, -_MOST_SPARK), _MOST_SPARK)
