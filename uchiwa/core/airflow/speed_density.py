"""Air by speed density."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Calibration

GAS_CONSTANT = 287.05
"""Specific gas constant of dry air, J/(kg·K) (ISO 2533, R = 287.052 87)."""
ZERO_CELSIUS = 273.15


def charge_temperature(intake_air: FloatArray, coolant: FloatArray, k: FloatArray | float) -> FloatArray:
    """Temperature of the charge at the valve, degC: IAT + (ECT − IAT)·k, with 0 ≤ k ≤ 1 falling as flow rises."""
    return intake_air + (coolant - intake_air) * k


def cylinder_air(
    ve_percent: FloatArray, manifold_pressure: FloatArray, charge: FloatArray, displacement: float, cylinders: int
) -> FloatArray:
    """Air per cylinder and cycle by speed density, in g.

    m_cyl = VE · MAP · V_cyl / (R · T_charge), with V_cyl = displacement / cylinders.

    Args:
        ve_percent: volumetric efficiency, %.
        manifold_pressure: absolute, kPa.
        charge: charge temperature, degC.
        displacement: of the engine, L.
        cylinders: number of cylinders.
    """
    volume = displacement / cylinders / 1000.0
    kelvin = charge + ZERO_CELSIUS
    return ve_percent / 100.0 * manifold_pressure * 1000.0 * volume / (GAS_CONSTANT * kelvin) * 1000.0


def engine_airflow(air_per_cylinder: FloatArray, cylinders: int, engine_speed: FloatArray) -> FloatArray:
    """Airflow in g/s of a four-stroke engine: m_cyl · cylinders · rpm / 120."""
    return air_per_cylinder * cylinders * engine_speed / 120.0


def logged_airflow(signals: dict[str, FloatArray], calibration: Calibration) -> FloatArray | None:
    """Airflow in g/s at each sample: the meter's, or else by speed density from the calibration; None without either.

    Only the mixture delay is derived from it, so a charge temperature of the intake air's own is close enough.
    """
    if "airflow" in signals:
        return signals["airflow"]
    tables = calibration.by_role("volumetric_efficiency")
    displacement, cylinders = calibration.constant("displacement"), calibration.constant("cylinders")
    if not tables or displacement is None or cylinders is None:
        return None
    table = tables[0]
    speed, pressure = signals.get(table.x.quantity), signals.get("manifold_pressure")
    if speed is None or pressure is None or table.y is None or table.y.quantity not in signals:
        return None
    intake_air = signals.get("intake_air_temperature", np.full(speed.shape, 25.0))
    ve = table.lookup(speed, signals[table.y.quantity])
    return engine_airflow(cylinder_air(ve, pressure, intake_air, displacement, int(cylinders)), int(cylinders), speed)
