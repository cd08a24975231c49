"""Stand-in cars beside the scenario's three: an automatic that idles by a table, and a six that gets a supercharger."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen
from uchiwa.standin.cars import CARS, StandInCar, calibrated, tern_base
from uchiwa.standin.logger import Logger, WrittenChannel

_COOLANT = (-20.0, 0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0, 95.0)
_AIR = (4.4, 3.4, 2.8, 2.5, 2.3, 2.2, 2.1, 2.05, 2.0, 2.0, 2.0)
_WARM_UP = (140.0, 122.0, 114.0, 110.0, 107.0, 105.0, 103.5, 102.0, 101.0, 100.0, 100.0)
_COLD = (-0.08, -0.06, -0.05, -0.04, -0.03, -0.02, -0.01, 0.0, 0.0, 0.0, 0.0)
_IN_GEAR = 0.1


def _with(logger: Logger, more: dict[str, WrittenChannel]) -> Logger:
    return replace(logger, names=logger.names | more)


def _written(quantity: str, name: str, decimals: int) -> WrittenChannel:
    return WrittenChannel(name, QUANTITIES[quantity].unit, decimals)


def automatic_base() -> Calibration:
    """The Pike's, fuel done; idle airflow, warm-up and cold target are another engine's."""
    base = calibrated(CARS["corvid-pike"])
    coolant = Axis("coolant_temperature", "degC", frozen(list(_COOLANT)))
    air = np.round(np.array([_AIR, [one + _IN_GEAR for one in _AIR]]), 2)
    idle = Table(
        "idle_air", "Idle airflow", "idle_airflow", "g/s", coolant, Axis("in_gear", "1", frozen([0.0, 1.0])),
        frozen(air), 0.0, 40.0, 2,
    )  # fmt: skip
    warm = Table(
        "warmup", "Warm-up factor", "warmup_factor", "%", coolant, None, frozen(list(_WARM_UP)), 100.0, 250.0, 1
    )
    cold = Table(
        "cold_target", "Cold λ target", "cold_lambda_offset", "1", coolant, None, frozen(list(_COLD)), -0.3, 0.0, 3
    )
    kept = tuple(table.with_grid(table.rounded(table.grid)) for table in base.tables if table.role != "warmup_factor")
    return replace(
        base,
        id="corvid-pike-automatic",
        title="Corvid Pike 2.0 turbo automatic, fuel done",
        tables=(*kept, idle, warm, cold),
    )


def automatic() -> StandInCar:
    """A Corvid Pike with an automatic gearbox: stiff when cold, and its fuel does not evaporate well."""
    pike = CARS["corvid-pike"]
    return replace(
        pike, id="corvid-pike-automatic", title="Corvid Pike automatic", base=automatic_base, actuator=1.04,
        truth=replace(pike.truth, cold_friction=0.9, cold_fuel=0.36, gear_load=7.0),
        file=pike.file.model_copy(update={"automatic": True}),
        logger=_with(pike.logger, {
            "target_idle_speed": _written("target_idle_speed", "Target idle speed", 0),
            "idle_airflow_target": _written("idle_airflow_target", "Desired idle airflow", 2),
            "idle_actuator_position": _written("idle_actuator_position", "Idle valve", 1),
            "in_gear": WrittenChannel("In gear", "", 0),
        }),
    )  # fmt: skip


_VOLTS = tuple(round(0.5 + 0.25 * step, 2) for step in range(19))
_CLAMP_SPEEDS = (1000.0, 1500.0, 2000.0, 2500.0, 3000.0, 3500.0, 4000.0, 4500.0, 5000.0, 5500.0, 6000.0, 6500.0)
_CLAMP_VOLTS = (0.0, 0.7, 1.4, 2.1, 2.8, 3.5, 4.2, 5.0)


def tern_volts(airflow: float) -> float:
    """The signal of the supercharged Tern's airflow meter, V, by airflow in g/s."""
    return float(0.55 + 0.335 * max(airflow, 0.0) ** 0.46)


def _tern_air(volts: float) -> float:
    return float(max((volts - 0.55) / 0.335, 0.0) ** (1.0 / 0.46))


def supercharged_base() -> Calibration:
    """The Tern's with a meter by voltage, and a piggyback's clamp through which everything still passes."""
    base = tern_base()
    curve = Table(
        "maf_curve", "Airflow meter", "maf_curve", "g/s", Axis("airflow_voltage", "V", frozen(list(_VOLTS))), None,
        frozen([round(_tern_air(volt), 2) for volt in _VOLTS]), 0.0, 900.0, 2,
    )  # fmt: skip
    through = np.repeat(np.array(_CLAMP_VOLTS)[:, None], len(_CLAMP_SPEEDS), axis=1)
    clamp = Table(
        "signal_clamp", "Airflow signal clamp", "airflow_clamp", "V",
        Axis("engine_speed", "rpm", frozen(list(_CLAMP_SPEEDS))), Axis("airflow_voltage", "V", frozen(list(_CLAMP_VOLTS))),
        frozen(through), 0.0, 5.0, 3,
    )  # fmt: skip
    kept = tuple(table for table in base.tables if table.role != "maf_curve")
    return replace(
        base, id="larkspur-tern-s", title="Larkspur Tern 3.2 six, before its supercharger", tables=(curve, *kept, clamp)
    )


def supercharged() -> StandInCar:
    """A Larkspur Tern that gets a supercharger once the clamp of its airflow signal is in place."""
    tern = CARS["larkspur-tern"]
    return replace(
        tern, id="larkspur-tern-s", title="Larkspur Tern S", base=supercharged_base, meter=tern_volts,
        meter_quantity="airflow_voltage", meter_noise=0.006, blown_once_clamped=True,
        truth=replace(tern.truth, blower=True, wastegate_boost=45.0),
        file=tern.file.model_copy(update={"meter": "voltage", "aspiration": "supercharger"}),
        logger=_with(tern.logger, {"airflow_voltage": WrittenChannel("MAF Volts", "V", 3)}),
    )  # fmt: skip


SPECIAL: dict[str, StandInCar] = {car.id: car for car in (automatic(), supercharged())}
