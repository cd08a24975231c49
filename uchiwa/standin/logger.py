"""The stand-in cars' loggers: each writes another dialect, in other names and units."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np

from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.logs.writers.delimited import Dialect, write_text
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert

AFR = "AFR"


@dataclass(frozen=True)
class WrittenChannel:
    """How a logger writes a quantity: its name for it, the unit, and the digits after the point."""

    name: str
    unit: str
    decimals: int


@dataclass(frozen=True)
class Logger:
    """A stand-in logger.

    Attributes:
        dialect: of its files.
        names: quantity to how it is written; others are not offered by it.
        limit: most channels at once.
        every: of the simulation's 25 Hz, each n-th row is written.
    """

    dialect: Dialect
    names: dict[str, WrittenChannel]
    limit: int | None = None
    every: int = 1
    words: MappingProxyType[str, dict[float, str]] = field(default_factory=lambda: MappingProxyType({}))

    def write(self, log: Log, wanted: Collection[str] | None = None) -> bytes:
        """A simulated log as this logger's file; only the wanted quantities, up to its limit."""
        raster = log.rasters[0]
        own = {channel.quantity: channel for channel in raster.channels if channel.quantity in self.names}
        chosen = [one for one in (wanted if wanted is not None else self.names) if one in own][: self.limit]
        ethanol = next(
            (channel.values for channel in raster.channels if channel.quantity == "ethanol_content"), np.zeros(1)
        )
        channels = tuple(
            Channel(
                self.names[one].name,
                self.names[one].unit,
                _in_unit(own[one].values, one, self.names[one].unit, ethanol)[:: self.every],
            )
            for one in chosen
        )
        decimals = {self.names[one].name: self.names[one].decimals for one in chosen}
        dialect = Dialect(
            **{
                **self.dialect.__dict__,
                "decimals": decimals,
                "words": {self.names[one].name: self.words[one] for one in chosen if one in self.words},
            }
        )
        return write_text(Log(log.name, (Raster(raster.time[:: self.every], channels),), log.notes), dialect)


def _in_unit(values: FloatArray, quantity: str, unit: str, ethanol: FloatArray) -> FloatArray:
    if unit == AFR:
        return np.asarray(values * stoichiometric_ratio(ethanol))
    if not unit:
        return values
    none, one = convert(np.array([0.0, 1.0]), unit, QUANTITIES[quantity].unit)
    return np.asarray((values - none) / (one - none))


_PLAIN = (
    ("engine_speed", "Engine speed", 0), ("vehicle_speed", "Vehicle speed", 1), ("throttle_position", "Throttle", 1),
    ("manifold_pressure", "Intake pressure", 1), ("barometric_pressure", "Barometric pressure", 1),
    ("coolant_temperature", "Coolant temperature", 0), ("intake_air_temperature", "Intake air temperature", 1),
    ("lambda_measured", "Lambda measured", 3), ("lambda_target", "Lambda target", 3),
    ("short_term_trim", "Short term trim", 2), ("long_term_trim", "Long term trim", 2), ("loop_state", "Loop state", 0),
    ("injector_pulse", "Injector pulse", 3), ("injector_duty", "Injector duty", 1), ("spark_advance", "Spark advance", 1),
    ("knock_retard", "Knock retard", 1), ("battery_voltage", "Battery voltage", 2), ("fuel_pressure", "Fuel pressure", 0),
    ("overrun_cut_active", "Overrun cut active", 0), ("after_start_active", "After start active", 0), ("gear", "Gear", 0),
    ("knock_level", "Knock level", 3), ("knock_limit", "Knock limit", 3), ("knock_count", "Knock count", 0),
)  # fmt: skip

PIKE_LOGGER = Logger(
    Dialect(), {one: WrittenChannel(name, QUANTITIES[one].unit, decimals) for one, name, decimals in _PLAIN}
)

TERN_LOGGER = Logger(
    Dialect(delimiter=";", comma=True, newline="\r\n", encoding="latin-1", units="row", time="clock", starts=76_840.0,
            preamble=("Dash recorder export", "Car;Larkspur Tern")),
    {
        "engine_speed": WrittenChannel("Eng RPM", "1/min", 0), "vehicle_speed": WrittenChannel("Veh Spd", "km/h", 1),
        "throttle_position": WrittenChannel("Throttle Pos", "%", 1), "airflow": WrittenChannel("MAF", "kg/h", 1),
        "airflow_frequency": WrittenChannel("MAF Freq", "Hz", 0), "manifold_pressure": WrittenChannel("MAP", "bar", 4),
        "barometric_pressure": WrittenChannel("Baro", "mbar", 0), "coolant_temperature": WrittenChannel("ECT", "°C", 0),
        "intake_air_temperature": WrittenChannel("IAT", "°C", 1), "lambda_target": WrittenChannel("Commanded Lambda", "", 3),
        "short_term_trim": WrittenChannel("STFT B1", "%", 2), "short_term_trim_2": WrittenChannel("STFT B2", "%", 2),
        "long_term_trim": WrittenChannel("LTFT B1", "%", 2), "long_term_trim_2": WrittenChannel("LTFT B2", "%", 2),
        "loop_state": WrittenChannel("Loop Status", "", 0), "injector_pulse": WrittenChannel("Inj PW", "ms", 3),
        "injector_duty": WrittenChannel("Inj Duty", "%", 1), "spark_advance": WrittenChannel("Spark Adv", "°", 1),
        "knock_retard": WrittenChannel("Knock Retard", "°", 1), "battery_voltage": WrittenChannel("Batt Volts", "V", 2),
        "fuel_pressure": WrittenChannel("Fuel Press", "bar", 2),
        "overrun_cut_active": WrittenChannel("Decel Fuel Cut", "", 0), "after_start_active": WrittenChannel("After start", "", 0),
        "gear": WrittenChannel("Gear", "", 0),
    },
    every=2,
    words=MappingProxyType({"loop_state": {0.0: "OL", 1.0: "CL"}, "overrun_cut_active": {0.0: "Off", 1.0: "On"}}),
)  # fmt: skip

WREN_LOGGER = Logger(
    Dialect(delimiter="\t", units="parentheses", time="ms", encoding="utf-16"),
    {
        "engine_speed": WrittenChannel("RPM", "rpm", 0), "manifold_pressure": WrittenChannel("MAP", "psi", 3),
        "barometric_pressure": WrittenChannel("Baro", "inHg", 2), "throttle_position": WrittenChannel("TPS", "%", 1),
        "lambda_measured": WrittenChannel("AFR", AFR, 3), "lambda_target": WrittenChannel("AFR Target", AFR, 3),
        "ethanol_content": WrittenChannel("Ethanol", "%", 1), "coolant_temperature": WrittenChannel("CLT", "°F", 0),
        "intake_air_temperature": WrittenChannel("IAT", "°F", 0), "short_term_trim": WrittenChannel("STFT", "%", 2),
        "long_term_trim": WrittenChannel("LTFT", "%", 2), "loop_state": WrittenChannel("Closed loop", "", 0),
        "injector_duty": WrittenChannel("Inj DC", "%", 1), "spark_advance": WrittenChannel("Timing", "deg", 1),
        "knock_retard": WrittenChannel("KR", "deg", 1), "vehicle_speed": WrittenChannel("Speed", "mph", 1),
        "injector_pulse": WrittenChannel("Pulse Width", "ms", 3), "battery_voltage": WrittenChannel("VBatt", "V", 2),
        "fuel_pressure": WrittenChannel("Fuel pressure", "psi", 1), "gear": WrittenChannel("Gear", "", 0),
        "overrun_cut_active": WrittenChannel("Fuel cut", "", 0), "after_start_active": WrittenChannel("Afterstart", "", 0),
    },
    limit=14,
    words=MappingProxyType({"loop_state": {0.0: "Open", 1.0: "Closed"}}),
)  # fmt: skip


def write_delimited(log: Log) -> str:
    """The plain logger's text: comma-separated, units in brackets, numbers as they are in the log."""
    raster = log.rasters[0]
    plain = Log(log.name, (Raster(np.round(raster.time, 3), raster.channels),), log.notes)
    return write_text(plain, Dialect()).decode()
