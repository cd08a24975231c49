"""A map carried over to another car: onto its own breakpoints, with stated changes, each a step with its reason."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np
from pydantic import Field

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.policy_file import PolicyFile
from uchiwa.core.quantities.units import convert, plain_unit
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table

_Flow = Annotated[float, Field(gt=0, le=1000, allow_inf_nan=False)]
_LARGEST_SPARK = 25.0


@dataclass(frozen=True, eq=False)
class CarriedStep:
    """One step.

    Attributes:
        sentence: what was done and why.
        content: the calibration after it.
    """

    sentence: str
    content: Calibration


class Changes(PolicyFile):
    """What is different from the car that the map is of. All keys are optional.

    Attributes:
        displacement: L.
        injector_flow: g/s of one injector.
        injector_dead_time: ms at 14 V.
        stoichiometric_ratio: of the fuel.
        spark_down: degrees less spark everywhere, as for a worse fuel.
        spark_why: why.
        pressure_sensor: id of the intake pressure sensor's line, for the car file; empty if it is the same.
    """

    displacement: Annotated[float, Field(gt=0, le=30, allow_inf_nan=False)] | None = None
    injector_flow: _Flow | None = None
    injector_dead_time: Annotated[float, Field(ge=0, le=10, allow_inf_nan=False)] | None = None
    stoichiometric_ratio: Annotated[float, Field(ge=3, le=35, allow_inf_nan=False)] | None = None
    spark_down: Annotated[float, Field(ge=0, le=_LARGEST_SPARK, allow_inf_nan=False)] = 0.0
    spark_why: Annotated[str, Field(max_length=200)] = ""
    pressure_sensor: Annotated[str, Field(max_length=40)] = ""


_CONSTANTS = {
    "displacement": ("displacement", "Displacement", "L"),
    "injector_flow": ("injector_flow", "Injector flow", "g/s"),
    "injector_dead_time": ("injector_dead_time", "Injector dead time", "ms"),
    "stoichiometric_ratio": ("stoichiometric_ratio", "Stoichiometric ratio", ""),
}


def changed(start: Calibration, changes: Changes) -> Iterator[CarriedStep]:
    """The steps of the changes, one after the other; those that change nothing are left out.

    Raises:
        BadInput: the calibration holds nothing that could be changed so; nothing is half done.
    """
    now = start
    for key, (role, words, unit) in _CONSTANTS.items():
        value = getattr(changes, key)
        if value is None:
            continue
        before = now.constant(role)
        if before is None:
            advice = "leave it empty, or start from a map that holds one"
            raise BadInput(f"the map holds no {words.lower()}", where="the changes", advice=advice)
        constant = next(one for one in now.constants if one.role == role)
        wanted = _in_unit(value, unit, constant.unit, words)
        if before == wanted:
            continue
        now = replace(
            now, constants=tuple(replace(one, value=wanted) if one is constant else one for one in now.constants)
        )
        shown = f" {constant.unit}" if constant.unit and constant.unit != "1" else ""
        yield CarriedStep(f"{words} {before:g} → {wanted:g}{shown}, for this car", now)
    if changes.spark_down > 0:
        now, cells = spark_down(now, changes.spark_down)
        why = changes.spark_why.strip() or "a worse fuel"
        yield CarriedStep(f"Spark {changes.spark_down:g}° down in {cells} cells, for {why}", now)


def _in_unit(value: float, told: str, unit: str, what: str) -> float:
    """A value in the unit in which the map keeps it.

    Raises:
        BadInput: it cannot be turned into that unit.
    """
    if plain_unit(told) == plain_unit(unit) or not told:
        return value
    try:
        return round(float(convert(np.array([value]), told, unit)[0]), 9)
    except BadInput:
        said = f"the map keeps {what.lower()} in “{unit}”, into which {told} cannot be turned"
        raise BadInput(said, where="the changes", advice="leave it empty, and set it in the tables") from None


def spark_down(start: Calibration, degrees: float) -> tuple[Calibration, int]:
    """Every table of spark lower by so many degrees, no lower than its minimum; how many cells changed.

    Raises:
        BadInput: there is no table of spark.
    """
    tables = start.by_role("spark_advance")
    if not tables:
        raise BadInput("the map holds no table of spark", where="the changes", advice="leave spark as it is")
    cells, now = 0, start
    for table in tables:
        down = _in_unit(degrees, "deg", table.unit, table.title)
        after = table.with_grid(table.rounded(table.grid - down))
        cells += int((after.grid != table.grid).sum())
        now = now.with_table(replace(after, zones=()))
    return now, cells


def onto(own: Calibration, start: Calibration) -> tuple[CarriedStep, tuple[str, ...]]:
    """A start map on the car's own tables and breakpoints.

    Tables belong together by id, else by role where each side has one. A value is looked up in the start map as its controller
    would; beyond its last breakpoints the last value holds. Constants stay the car's own.

    Returns:
        The step, and what was not carried over and why, as sentences.

    Raises:
        BadInput: nothing could be carried over.
    """
    tables, left, done, beyond = [], [], [], 0
    for table in own.tables:
        found = _counterpart(table, own, start)
        if found is None:
            left.append(f"{table.title} stays the car’s own: the start map has none")
            tables.append(table)
            continue
        try:
            after, outside = _on_axes(table, found)
        except BadInput as error:
            left.append(f"{table.title} stays the car’s own: {error.what}")
            tables.append(table)
            continue
        beyond += outside
        done.append(table.title)
        tables.append(after)
    if not done:
        why = left[0] if left else "the car’s own calibration has no tables"
        raise BadInput(f"nothing of the start map fits this car: {why}", advice="choose a map of a car like this one")
    if beyond:
        left.append(f"{beyond} cells lie beyond the start map’s breakpoints and have its last value")
    sentence = f"{len(done)} table{'s' if len(done) != 1 else ''} carried over from “{start.title}”: {', '.join(done)}"
    return CarriedStep(sentence, replace(own, tables=tuple(tables))), tuple(left)


def compared_with(own: Calibration, other: Calibration) -> tuple[Calibration, tuple[str, ...]]:
    """Another car's calibration laid as this car's is, to be held against it: its tables on this car's breakpoints.

    Returns:
        The other calibration with the ids of this one's tables and constants, and what has no counterpart, as sentences.

    Raises:
        BadInput: the two have no table in common.
    """
    tables, apart, other_points = [], [], []
    for table in own.tables:
        found = _counterpart(table, own, other)
        if found is None:
            apart.append(f"{table.title} has no counterpart")
            continue
        try:
            after, _ = _on_axes(table, found)
        except BadInput as error:
            apart.append(f"{table.title} cannot be compared: {error.what}")
            continue
        if not same_axes(table, found):
            other_points.append(table.title)
        tables.append(after)
    if not tables:
        raise BadInput("the two have no table in common", where=other.title, advice="compare with a car like this one")
    if other_points:
        apart.insert(0, f"over other breakpoints, compared on this car’s: {', '.join(other_points)}")
    roles = {constant.role: constant for constant in other.constants}
    constants: list[Constant] = []
    for mine in own.constants:
        theirs = roles.get(mine.role)
        if theirs is None:
            continue
        try:
            constants.append(replace(mine, value=_in_unit(theirs.value, theirs.unit, mine.unit, mine.role)))
        except BadInput:
            apart.append(f"{mine.role.replace('_', ' ')} cannot be compared: “{theirs.unit}” beside “{mine.unit}”")
    return Calibration(own.id, other.title, tuple(constants), tuple(tables)), tuple(apart)


def _counterpart(table: Table, own: Calibration, start: Calibration) -> Table | None:
    same = next((one for one in start.tables if one.id == table.id and one.role == table.role), None)
    if same is not None or table.role == "other":
        return same
    mine, theirs = own.by_role(table.role), start.by_role(table.role)
    return theirs[0] if len(mine) == 1 and len(theirs) == 1 else None


def _on_axes(table: Table, found: Table) -> tuple[Table, int]:
    """A table of the start map on the car's breakpoints, and how many cells lie beyond its own.

    Raises:
        BadInput: they are laid over other quantities, or in units that cannot be turned into each other.
    """
    if (table.y is None) != (found.y is None):
        raise BadInput("one of the two is a curve and the other a table")
    turned = _turned(table, found)
    across = _points(table.x, turned.x)
    if table.y is None or turned.y is None:
        values = turned.lookup(across)
        outside = _outside(across, turned.x)[None, :]
    else:
        up = _points(table.y, turned.y)
        wide, high = np.meshgrid(across, up)
        values = turned.lookup(wide.ravel(), high.ravel()).reshape(table.shape)
        outside = _outside(wide, turned.x) | _outside(high, turned.y)
    if plain_unit(found.unit) != plain_unit(table.unit):
        values = convert(values, found.unit, table.unit)
    grid = table.rounded(values.reshape(table.shape))
    return replace(table, zones=()).with_grid(grid), int(outside.sum())


def _turned(table: Table, found: Table) -> Table:
    """The start map's table laid as the car's is."""
    mine = (table.x.quantity, table.y.quantity if table.y is not None else "")
    theirs = (found.x.quantity, found.y.quantity if found.y is not None else "")
    if mine == theirs:
        return found
    if found.y is not None and mine == theirs[::-1]:
        return replace(found, x=found.y, y=found.x, values=found.grid.T.copy(), zones=())
    there = " × ".join(word.replace("_", " ") for word in theirs if word)
    raise BadInput(f"the start map’s lies over {there}")


def _points(axis: Axis, onto_: Axis) -> FloatArray:
    """The car's breakpoints in the unit of the start map's."""
    if plain_unit(axis.unit) == plain_unit(onto_.unit):
        return axis.breakpoints
    return convert(axis.breakpoints, axis.unit, onto_.unit)


def _outside(points: FloatArray, axis: Axis) -> BoolArray:
    found: BoolArray = (points < axis.breakpoints[0] - 1e-9) | (points > axis.breakpoints[-1] + 1e-9)
    return found
