"""An airflow model held against another one that is trusted, in place of the fuel error."""

from __future__ import annotations

from typing import Literal

import numpy as np

from uchiwa.core.airflow.crosscheck import meter_air
from uchiwa.core.airflow.speed_density import charge_temperature, cylinder_air, engine_airflow
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.formulas.evaluation import Workings
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Calibration, Table


def speed_density(table: Table, log: Workings, calibration: Calibration, name: str) -> FloatArray:
    """Air by speed density from one VE table, g/s; see `airflow.cylinder_air`.

    Args:
        table: of volumetric efficiency.
        log: its signals, with what the share of the charge's temperature may name.
        calibration: that the car ran.
        name: of the log, for messages.

    Raises:
        BadInput: a channel or a constant is missing.
    """
    signals = log.signals
    displacement, cylinders = calibration.constant("displacement"), calibration.constant("cylinders")
    if displacement is None or cylinders is None:
        raise BadInput(
            "the calibration has no displacement or number of cylinders",
            where=name,
            advice="give it constants of these roles",
        )
    for quantity in ("engine_speed", "manifold_pressure", "intake_air_temperature"):
        if quantity not in signals:
            raise BadInput(
                f"the log has no {quantity.replace('_', ' ')}, which speed density needs",
                where=name,
                advice="record it, or leave this log out",
            )
    y = axis_values(table.y, signals, name) if table.y is not None else None
    ve = table.lookup(axis_values(table.x, signals, name), y)
    air = signals["intake_air_temperature"]
    share = np.asarray(log.value("charge_share"), dtype=np.float64)
    charge = charge_temperature(air, signals.get("coolant_temperature", air), share)
    per_cylinder = cylinder_air(ve, signals["manifold_pressure"], charge, displacement, int(cylinders))
    return engine_airflow(per_cylinder, int(cylinders), signals["engine_speed"])


def against_trusted(
    source: Literal["meter", "speed_density"],
    table: Table,
    log: Workings,
    calibration: Calibration,
    name: str,
) -> FloatArray:
    """Trusted air over the air of the table's own model, at each sample; shape (n,).

    Raises:
        BadInput: the trusted model is the table's own, or something it needs is missing.
    """
    signals = log.signals
    meter = meter_air(signals, calibration, name)
    if meter is None:
        raise BadInput("the log has no airflow by the meter", where=name, advice="record airflow or the meter's signal")
    with np.errstate(invalid="ignore", divide="ignore"):
        if source == "meter" and table.role == "volumetric_efficiency":
            ratio = meter / speed_density(table, log, calibration, name)
        elif source == "speed_density" and table.role == "maf_curve":
            tables = calibration.by_role("volumetric_efficiency")
            if not tables:
                raise BadInput(
                    "the calibration has no VE table to trust", advice="hold the curve against the fuel error"
                )
            own = table.lookup(axis_values(table.x, signals, name))
            ratio = speed_density(tables[0], log, calibration, name) / own
        else:
            raise BadInput(
                f"{table.title} cannot be held against itself",
                advice="trust the meter for a VE table, and speed density for a meter's curve",
            )
    return np.where(np.isfinite(ratio) & (ratio > 0), ratio, np.nan)
