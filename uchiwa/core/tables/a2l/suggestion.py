"""What the characteristics of an A2L file may be, by their words and axes: proposed to a person, never taken unasked."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from uchiwa.core.quantities.naming import match_name
from uchiwa.core.tables.a2l.assignment import Assignment, Input, TakenCharacteristic
from uchiwa.core.tables.a2l.description import Characteristic, Description

_LEAST_CONFIDENCE = 0.6
_NO_WORDS = re.compile(r"[^a-z0-9.]+")
_LOOKED_AT = 400
_SPEEDS = frozenset({"engine_speed"})
_ROLES: tuple[tuple[str, re.Pattern[str], tuple[str, ...]], ...] = (
    ("volumetric_efficiency", re.compile(r"volumetric efficiency|\bve\b|air charge efficiency"), ("MAP",)),
    ("maf_curve", re.compile(r"\bmaf\b|air ?(flow|mass) (meter|sensor)|hot film"), ("CURVE",)),
    ("lambda_target", re.compile(r"(lambda|mixture|air.fuel).{0,40}(target|desired|setpoint|command)"), ("MAP", "CURVE")),
    ("spark_advance", re.compile(r"(spark|ignition).{0,40}(advance|angle|timing|map|base)|base (spark|ignition)"), ("MAP",)),
    ("idle_airflow", re.compile(r"idle.{0,40}air|air.{0,40}idle"), ("MAP", "CURVE")),
    ("warmup_factor", re.compile(r"warm.?up.{0,40}(factor|enrich)"), ("CURVE",)),
    ("cold_lambda_offset", re.compile(r"cold.{0,40}lambda|lambda.{0,40}(cold|warm.?up).{0,40}offset"), ("CURVE",)),
    ("knock_limit", re.compile(r"knock.{0,40}(threshold|limit)"), ("MAP", "CURVE")),
    ("airflow_clamp", re.compile(r"clamp"), ("MAP",)),
)  # fmt: skip
_CONSTANTS: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("displacement", re.compile(r"(engine )?displacement|swept volume")),
    ("cylinders", re.compile(r"(number|count) of cylinders|cylinders")),
    ("stoichiometric_ratio", re.compile(r"stoichiometric")),
    ("injector_flow", re.compile(r"injector.{0,40}(flow|size|constant)")),
    ("injector_dead_time", re.compile(r"injector.{0,40}(dead time|latency|offset)")),
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
    said = " ".join(_NO_WORDS.sub(" ", f"{characteristic.words} {characteristic.name}"[:_LOOKED_AT].lower()).split())
    if characteristic.kind == "VALUE":
        return next((role for role, pattern in _CONSTANTS if pattern.search(said)), "")
    return next((role for role, pattern, kinds in _ROLES if characteristic.kind in kinds and pattern.search(said)), "")


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
