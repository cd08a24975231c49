"""Thresholds of all checks, in one place; a shop may set its own."""

from __future__ import annotations

import json
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput

Number = Annotated[float, Field(ge=-1000, le=100000, allow_inf_nan=False)]


def _of(default: float, words: str, unit: str) -> Any:
    return Field(default=default, title=words, json_schema_extra={"unit": unit})


class Thresholds(BaseModel):
    """When a check finds something. Each has its words and its unit."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    short_log: Number = _of(12, "a log is too short below", "s")
    gap_steps: Number = _of(6, "a gap is longer than", "usual steps")
    gap_seconds: Number = _of(0.5, "and longer than", "s")
    rate_steady: Number = _of(4, "steady fuel wants at least", "Hz")
    rate_quick: Number = _of(10, "pulls and knock want at least", "Hz")
    out_of_range: Number = _of(0.2, "readings beyond the physical range, at least", "% of the log")
    flat_top: Number = _of(0.6, "a sensor is at its end when it stays on its highest reading for", "s")
    idle_mixture: Number = _of(5, "warm closed-loop idle may be off λ 1 by", "%")
    rich_rail: Number = _of(0.685, "the wideband's rich end", "λ")
    lean_rail: Number = _of(1.30, "the wideband's lean end", "λ")
    rail_seconds: Number = _of(3, "at its end for", "s")
    wideband_warm: Number = _of(25, "the wideband is cold when it reads lean for the first", "s")
    warm_coolant: Number = _of(78, "warm from a coolant of", "°C")
    cold_share: Number = _of(20, "an engine is cold when it was below that for more than", "% of the log")
    soaked_above: Number = _of(25, "heat-soaked when intake air is above the outside by", "°C")
    soaked_seconds: Number = _of(15, "for at least", "s")
    exhaust_hot: Number = _of(950, "exhaust gas is too hot from", "°C")
    exhaust_seconds: Number = _of(1, "for at least", "s")
    meter_volts: Number = _of(4.7, "an airflow meter is at its ceiling from", "V")
    duty_warn: Number = _of(85, "injector duty is high from", "%")
    duty_critical: Number = _of(95, "and critical from", "%")
    knock_degrees: Number = _of(1, "knock counts from a retard of", "°")
    knock_events: Number = _of(3, "repeated from", "events")
    knock_severe: Number = _of(4, "a single event is serious from", "°")
    lean_at_load: Number = _of(6, "full load is lean when above its target by", "%")
    lean_tip_in: Number = _of(30, "a lean spike when the throttle opens, above target by", "%")
    trim_limit: Number = _of(10, "a fuel trim is large beyond", "%")
    bank_limit: Number = _of(5, "banks differ beyond", "%")
    battery_jitter: Number = _of(0.35, "battery voltage jitters beyond", "V")
    fuel_pressure_drop: Number = _of(12, "fuel pressure falls under load by more than", "%")
    trim_left: Number = _of(1.5, "learned trims were not reset if beyond", "% at once")
    lookup_lambda: Number = _of(2, "another revision if its λ target differs from the table by", "%")
    lookup_spark: Number = _of(1.5, "or its spark by", "°")
    lookup_airflow: Number = _of(3, "or its airflow from the meter's curve by", "%")

    @classmethod
    def read(cls, data: Any) -> Self:
        """Thresholds from plain data; what is not given stays as it is by default.

        Raises:
            BadInput: one is unknown or not a number.
        """
        try:
            return cls.model_validate(data)
        except ValidationError as error:
            first = error.errors()[0]
            raise BadInput(
                first["msg"].lower(), where=".".join(map(str, first["loc"])), advice="write a number"
            ) from error

    @classmethod
    def loads(cls, text: str) -> Self:
        """Thresholds as they are stored."""
        return cls.read(json.loads(text or "{}"))
