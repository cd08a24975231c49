"""Torque corrected for the weather, by SAE J1349."""

from __future__ import annotations

import math
from dataclasses import dataclass

STANDARD_PRESSURE = 99.0
STANDARD_TEMPERATURE = 25.0
TRUSTED = (0.93, 1.07)
"""Outside these factors the standard wants the run repeated in other weather."""


@dataclass(frozen=True)
class Weather:
    """The air that an engine breathed.

    Attributes:
        pressure: of the air, kPa.
        temperature: degC.
        humidity: relative, %; None if it was not recorded.
    """

    pressure: float
    temperature: float
    humidity: float | None = None


def vapour_pressure(temperature: float, humidity: float) -> float:
    """Pressure of the water vapour in the air, kPa.

    Saturation by e = 0.6112·exp(17.67·t / (t + 243.5)) kPa, t in degC (D. Bolton 1980, equation 10).

    Args:
        temperature: degC.
        humidity: relative, %.
    """
    return humidity / 100.0 * 0.6112 * math.exp(17.67 * temperature / (temperature + 243.5))


def sae_factor(weather: Weather) -> float:
    """By what measured torque is to be multiplied: 1.180·(99 / p_dry)·√((t + 273) / 298) − 0.18.

    p_dry is the pressure of the dry air in kPa, t its temperature in degC; 0.18 stands for a mechanical efficiency of
    85 % (SAE J1349, spark-ignition engines). Without humidity the air counts as dry. Valid for 0.93 … 1.07.

    Raises:
        ValueError: there is no such air.
    """
    dry = weather.pressure - (
        vapour_pressure(weather.temperature, weather.humidity) if weather.humidity is not None else 0.0
    )
    if dry <= 0 or weather.temperature <= -273.0:
        raise ValueError("no such air")
    warm = math.sqrt((weather.temperature + 273.0) / (STANDARD_TEMPERATURE + 273.0))
    return 1.180 * (STANDARD_PRESSURE / dry) * warm - 0.180


def trusted(factor: float) -> bool:
    """Whether a factor lies where the standard holds it good."""
    return TRUSTED[0] <= factor <= TRUSTED[1]
