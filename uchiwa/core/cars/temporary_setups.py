"""Temporary setups: settings switched for a measurement, each with the value to put back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.table import Calibration
from uchiwa.core.typed_number import typed_number


@dataclass(frozen=True)
class SetupSetting:
    """A constant or table, named by role or id, and the value that it is to have meanwhile (everywhere in a table)."""

    name: str
    value: float


@dataclass(frozen=True)
class Setup:
    """A named list of settings for a measurement."""

    name: str
    sentence: str
    wishes: tuple[SetupSetting, ...]


_QUIET = (
    SetupSetting("full_load_enrichment_enabled", 0.0),
    SetupSetting("component_protection_enabled", 0.0),
    SetupSetting("overrun_cut_enabled", 0.0),
    SetupSetting("clutch_cut_enabled", 0.0),
)
PREPARED: tuple[Setup, ...] = (
    Setup(
        "airflow meter only",
        "Air by the meter alone, and nothing that adds or cuts fuel at odd times.",
        (SetupSetting("airflow_meter_enabled", 1.0), SetupSetting("speed_density_enabled", 0.0), *_QUIET),
    ),
    Setup(
        "speed density only",
        "Air by pressure and VE alone, the meter failed by calibration and left plugged in, since it may house the "
        "intake air sensor.",
        (SetupSetting("airflow_meter_enabled", 0.0), SetupSetting("speed_density_enabled", 1.0), *_QUIET),
    ),
    Setup(
        "open loop",
        "Trims at rest, so that the wideband sensor alone shows the error.",
        (SetupSetting("closed_loop_enabled", 0.0), *_QUIET),
    ),
)


@dataclass(frozen=True)
class SwitchedSetting:
    """One setting that was switched.

    Attributes:
        kind: `constant` or `table`.
        id: of it.
        before: value or rows of values to put back.
        during: the value meanwhile.
    """

    kind: str
    id: str
    before: float | tuple[tuple[float, ...], ...]
    during: float


@dataclass(frozen=True)
class Active:
    """A setup in force.

    Attributes:
        name: of the setup.
        switched: with what to put back.
        absent: names the calibration has nothing for.
    """

    name: str
    switched: tuple[SwitchedSetting, ...]
    absent: tuple[str, ...]


def switch(calibration: Calibration, setup: Setup) -> tuple[Calibration, Active]:
    """A calibration with a setup's settings, and what to put back.

    Settings that already have the wished value are kept on the list, for they are part of the setup.

    Raises:
        BadInput: the calibration has none of the settings.
    """
    switched: list[SwitchedSetting] = []
    absent: list[str] = []
    for wish in setup.wishes:
        constants = [one for one in calibration.constants if wish.name in (one.role, one.id)]
        tables = [one for one in calibration.tables if wish.name in (one.role, one.id)]
        for constant in constants:
            switched.append(SwitchedSetting("constant", constant.id, constant.value, wish.value))
        for table in tables:
            rows = tuple(tuple(float(value) for value in row) for row in table.grid)
            switched.append(SwitchedSetting("table", table.id, rows, wish.value))
        if not constants and not tables:
            absent.append(wish.name)
    if not switched:
        raise BadInput(
            f"the calibration has none of the settings of “{setup.name}”",
            advice="give its constants the roles listed in docs/fuel.md, or write a setup of your own",
        )
    return _with(calibration, switched, back=False), Active(setup.name, tuple(switched), tuple(absent))


def put_back(calibration: Calibration, active: Active) -> tuple[Calibration, tuple[str, ...]]:
    """The calibration with everything put back; and what had been changed meanwhile, which is put back all the same."""
    touched = [setting.id for setting in active.switched if not _stands(calibration, setting)]
    return _with(calibration, active.switched, back=True), tuple(touched)


def _stands(calibration: Calibration, setting: SwitchedSetting) -> bool:
    if setting.kind == "constant":
        return any(constant.id == setting.id and constant.value == setting.during for constant in calibration.constants)
    return any(table.id == setting.id and bool((table.grid == setting.during).all()) for table in calibration.tables)


def _with(calibration: Calibration, switched: Sequence[SwitchedSetting], *, back: bool) -> Calibration:
    values = {
        setting.id: setting.before if back else setting.during for setting in switched if setting.kind == "constant"
    }
    constants = tuple(
        replace(constant, value=value) if isinstance(value := values.get(constant.id), float) else constant
        for constant in calibration.constants
    )
    calibration = replace(calibration, constants=constants)
    for setting in switched:
        if setting.kind == "table" and any(table.id == setting.id for table in calibration.tables):
            table = calibration.table(setting.id)
            rows = np.array(setting.before) if back else np.full(table.shape, setting.during)
            if rows.shape == table.shape:
                calibration = calibration.with_table(table.with_grid(rows))
    return calibration


def read_wishes(text: str) -> tuple[SetupSetting, ...]:
    """Lines such as `overrun_cut_enabled = 0`.

    Raises:
        BadInput: names the line.
    """
    wishes: list[SetupSetting] = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        name, equals, value = line.partition("=")
        try:
            if not equals or not name.strip():
                raise ValueError
            number_given = typed_number(value)
        except ValueError:
            raise BadInput(
                "a line names a setting and its value", where=f"line {number}", advice="write name = number"
            ) from None
        wishes.append(SetupSetting(name.strip(), number_given))
    if not wishes:
        raise BadInput("there is no setting in this setup", advice="write one line per setting: name = number")
    return tuple(wishes)


def as_data(active: Active) -> dict[str, Any]:
    """An active setup as plain data."""
    return {
        "name": active.name,
        "absent": list(active.absent),
        "switched": [
            {
                "kind": setting.kind,
                "id": setting.id,
                "before": setting.before
                if isinstance(setting.before, float)
                else [list(row) for row in setting.before],
                "during": setting.during,
            }
            for setting in active.switched
        ],
    }


def from_data(data: dict[str, Any]) -> Active:
    """What `as_data` wrote."""
    return Active(
        data["name"],
        tuple(
            SwitchedSetting(
                one["kind"],
                one["id"],
                float(one["before"])
                if one["kind"] == "constant"
                else tuple(tuple(float(value) for value in row) for row in one["before"]),
                float(one["during"]),
            )
            for one in data["switched"]
        ),
        tuple(data["absent"]),
    )
