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

    def efficiency(self, spark: float, best: float) -> float:
        """Share of the best torque, 0.3 … 1, where `best` is MBT."""
        return max(0.3, 1.0 - self.loss * (spark - best) ** 2)

    def exhaust(self, spark: float, best: float) -> float:
        """Factor on what the turbine reaches: over 1 when late burning heats the exhaust."""
        later = best - self.late - spark
        return 1.0 + self.turbine * later if later > 0.0 else 1.0

    def unevenness(self, spark: float, best: float) -> float:
        """Standard deviation of torque from one combustion to the next, as a share."""
        later = best - self.even - spark
        return self.ragged * later if later > 0.0 else 0.0
