"""What spark does to an engine as it really is: torque, exhaust energy and how evenly it burns."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class SparkTruth:
    """Spark for best torque (MBT) and what other spark costs, hidden from the calibration.

    MBT = base − per_kpa·pressure + speed/per_rpm; torque falls with the square of the distance to it.

    Attributes:
        base: degrees at no pressure.
        per_kpa, per_rpm: what intake pressure and engine speed do.
        loss: share of torque lost per degree², below and above MBT.
        late: degrees below MBT from which the exhaust is hotter than it need be.
        turbine: share by which boost rises per degree later than that.
        even: degrees below MBT to which it burns evenly.
        ragged: standard deviation of torque, as a share, per degree later than that.
    """

    base: float = 34.0
    per_kpa: float = 0.11
    per_rpm: float = 400.0
    loss: float = 0.0006
    late: float = 4.0
    turbine: float = 0.008
    even: float = 8.0
    ragged: float = 0.006

    def best(self, speed: float, pressure: float) -> float:
        """MBT in degrees before top dead centre."""
        return self.base - self.per_kpa * pressure + speed / self.per_rpm

    def efficiency(self, spark: float, speed: float, pressure: float) -> float:
        """Share of the best torque, 0.3 … 1."""
        return max(0.3, 1.0 - self.loss * (spark - self.best(speed, pressure)) ** 2)

    def gain(self, spark: float, speed: float, pressure: float) -> float:
        """Share of the best torque that one more degree is worth here."""
        return 2.0 * self.loss * (self.best(speed, pressure) - spark)

    def exhaust(self, spark: float, speed: float, pressure: float) -> float:
        """Factor on what the turbine reaches: over 1 when late burning heats the exhaust."""
        return 1.0 + self.turbine * max(0.0, self.best(speed, pressure) - self.late - spark)

    def unevenness(self, spark: float, speed: float, pressure: float) -> float:
        """Standard deviation of torque from one combustion to the next, as a share."""
        return self.ragged * max(0.0, self.best(speed, pressure) - self.even - spark)
