"""What the characteristics of an A2L file may be, by their words and axes: proposed to a person, never taken unasked."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from uchiwa.core.quantities.naming import match_name
from uchiwa.core.tables.a2l.assignment import Assignment, Input, TakenCharacteristic
from uchiwa.core.tables.a2l.description import Characteristic, Description

_LEAST_CONFIDENCE = 0.6
_SPEEDS = frozenset({"engine_speed"})
_ROLES: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("volumetric_efficiency", r"volumetric efficiency|\bve\b|air charge efficiency", ("MAP",)),
    ("maf_curve", r"\bmaf\b|air ?(flow|mass) (meter|sensor)|hot film", ("CURVE",)),
    ("lambda_target", r"(lambda|mixture|air.fuel).*(target|desired|setpoint|command)", ("MAP", "CURVE")),
    ("spark_advance", r"(spark|ignition).*(advance|angle|timing|map|base)|base (spark|ignition)", ("MAP",)),
    ("idle_airflow", r"idle.*air|air.*idle", ("MAP", "CURVE")),
    ("warmup_factor", r"warm.?up.*(factor|enrich)", ("CURVE",)),
    ("cold_lambda_offset", r"cold.*lambda|lambda.*(cold|warm.?up).*offset", ("CURVE",)),
    ("knock_limit", r"knock.*(threshold|limit)", ("MAP", "CURVE")),
    ("airflow_clamp", r"clamp", ("MAP",)),
)  # fmt: skip
_CONSTANTS: tuple[tuple[str, str], ...] = (
    ("displacement", r"(engine )?displacement|swept volume"),
    ("cylinders", r"(number|count) of cylinders|cylinders"),
    ("stoichiometric_ratio", r"stoichiometric"),
    ("injector_flow", r"injector.*(flow|size|constant)"),
    ("injector_dead_time", r"injector.*(dead time|latency|offset)"),
)


@dataclass(frozen=True)
class Suggestion:
    """What a characteristic may be.

    Attributes:
        name: of the characteristic.
        role: of table or constant.
    """

    name: str
    role: str


def quantity_of(description: Description, measurement: str) -> str | None:
    """The quantity that a measurement may be, by its name or its long identifier."""
    for words in (description.inputs.get(measurement, ""), measurement.replace("_", " ")):
        found = match_name(words) if words else None
        if found is not None and found.confidence >= _LEAST_CONFIDENCE:
            return found.quantity
    return None


def suggestions(description: Description) -> Iterator[Suggestion]:
    """What each characteristic may be; those of which nothing is likely are left out."""
    for characteristic in description.characteristics:
        role = _role(characteristic)
        if role and not characteristic.refused:
            yield Suggestion(characteristic.name, role)


def _role(characteristic: Characteristic) -> str:
    said = " ".join(re.sub(r"[^a-z0-9.]+", " ", f"{characteristic.words} {characteristic.name}".lower()).split())
    if characteristic.kind == "VALUE":
        return next((role for role, pattern in _CONSTANTS if re.search(pattern, said)), "")
    return next(
        (role for role, pattern, kinds in _ROLES if characteristic.kind in kinds and re.search(pattern, said)), ""
    )


def suggested(description: Description) -> Assignment:
    """An assignment of all that is likely; each role but `other` goes to the first that it fits."""
    taken: dict[str, TakenCharacteristic] = {}
    roles: set[str] = set()
    for suggestion in suggestions(description):
        if suggestion.role not in roles:
            roles.add(suggestion.role)
            taken[suggestion.name] = TakenCharacteristic(role=suggestion.role)
    inputs: dict[str, Input] = {}
    for name in taken:
        for axis in description.by_name[name].axes:
            points = description.axes.get(axis.points)
            measurement = points.input if points is not None and axis.points else axis.input
            quantity = quantity_of(description, measurement)
            if quantity is not None:
                inputs[measurement] = Input(quantity=quantity)
    return Assignment(take=taken, inputs=inputs)
