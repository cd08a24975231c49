"""Units carried through a formula, and checked where they are known.

A plain number takes the unit of what it is added to or compared with. Multiplied with something, it may hide a change of
scale or a dimension of its own (a gas constant, a conversion), so that the result's unit is no longer certain: it is
*inexact*. Sums, comparisons and choices of things that measure different things are refused where both are exact.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Protocol

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.formulas.constants import constant_of
from uchiwa.core.formulas.language import Formula, MissingChannelError
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import Unit, pint_unit, powered, unit_text
from uchiwa.core.tables.table import Calibration


@dataclass(frozen=True)
class Meaning:
    """What a formula's values are.

    Attributes:
        unit: as text; empty if it is not known.
        exact: whether it follows from the formula alone.
        factor: by which values are multiplied to be in the unit that was declared.
        note: something to know about the unit, or empty.
        of: the unit itself, if it is known.
    """

    unit: str
    exact: bool = True
    factor: float = 1.0
    note: str = ""
    of: Unit | None = None


@dataclass(frozen=True)
class Measure:
    """The unit of a part of a formula: None if not known; a plain number has none of its own."""

    unit: Unit | None
    exact: bool = True
    plain: bool = False


_PLAIN = Measure(None, plain=True)
_UNKNOWN = Measure(None, exact=False)


class UnitsOfChannels(Protocol):
    """Something that knows the units of computed channels."""

    def __contains__(self, name: object, /) -> bool:
        """Whether there is a computed channel of this name."""
        ...

    def meaning(self, name: str, calibration: Calibration | None, car: CarFile | None) -> Meaning:
        """The unit of its values."""
        ...


def meaning(
    formula: Formula,
    book: UnitsOfChannels,
    calibration: Calibration | None = None,
    car: CarFile | None = None,
    recorded: Collection[str] = (),
) -> Meaning:
    """The unit of a formula's values.

    Raises:
        FormulaError: things that measure different things are added, compared or chosen between.
    """
    found = _Units(formula, book, calibration, car, recorded).of(formula.tree.body)
    if found.plain:
        return Meaning("1", of=pint_unit("1"))
    if found.unit is None:
        return Meaning("", exact=False)
    text = unit_text(found.unit)
    if found.exact:
        return Meaning(text, of=found.unit)
    note = f"{text} times a number: say the unit" if text not in ("", "1") else ""
    return Meaning("", exact=False, note=note, of=found.unit)


def declared(found: Meaning, unit: str, formula: Formula) -> Meaning:
    """What a formula's values are when a person says in which unit they want them.

    Raises:
        FormulaError: the unit measures something else than the formula does.
    """
    if not unit.strip():
        return found
    target = pint_unit(unit)
    if target is None:
        return Meaning(unit.strip(), exact=False, note="a unit of your own; it is not checked")
    if not found.exact or found.of is None:
        same = found.of is None or found.of.dimensionality == target.dimensionality
        return Meaning(
            unit.strip(), note="" if same else found.note.replace("say the unit", "taken at your word"), of=target
        )
    if found.of.dimensionality != target.dimensionality:
        raise formula.fault(
            formula.tree.body, f"the formula gives {found.unit}, which is not {unit.strip()}", "correct the unit"
        )
    return Meaning(unit.strip(), factor=_scale(found.of, target), of=target)


def _scale(source: Unit, target: Unit) -> float:
    return float((1.0 * _difference(source)).to(_difference(target)).magnitude)


def _difference(unit: Unit) -> Unit:
    """A temperature scale as the size of its degree."""
    registry = unit._REGISTRY
    return registry.Unit("kelvin") if unit == registry.Unit("degC") else unit


class _Units:
    def __init__(
        self,
        formula: Formula,
        book: UnitsOfChannels,
        calibration: Calibration | None,
        car: CarFile | None,
        recorded: Collection[str],
    ) -> None:
        self.formula, self.book, self.calibration, self.car = formula, book, calibration, car
        self.recorded = recorded

    def of(self, node: ast.AST) -> Measure:
        """The unit of a part."""
        match node:
            case ast.Constant():
                return _PLAIN
            case ast.Name():
                return self._name(node)
            case ast.UnaryOp():
                return self.of(node.operand)
            case ast.BoolOp():
                for value in node.values:
                    self.of(value)
                return _PLAIN
            case ast.Compare():
                parts = [node.left, *node.comparators]
                self._alike(parts, "compared")
                return _PLAIN
            case ast.BinOp():
                return self._operation(node)
            case ast.Call():
                return self._call(node)
            case _:
                return _UNKNOWN

    def _name(self, node: ast.Name) -> Measure:
        if node.id in QUANTITIES and (node.id in self.recorded or node.id not in self.book):
            return Measure(pint_unit(QUANTITIES[node.id].unit))
        if node.id in self.book:
            said = self.book.meaning(node.id, self.calibration, self.car)
            return Measure(said.of, said.exact)
        return _UNKNOWN

    def _or_else(self, node: ast.Call) -> Measure:
        """The unit of a choice; of one alone if the other rests on something that is not there."""
        first = self._if_there(node.args[0])
        if first is None:
            return self.of(node.args[1])
        second = self._if_there(node.args[1])
        return first if second is None else self._alike(list(node.args), "chosen between", [first, second])

    def _if_there(self, node: ast.AST) -> Measure | None:
        try:
            return self.of(node)
        except MissingChannelError:
            return None

    def _alike(self, nodes: list[ast.expr], verb: str, measures: list[Measure] | None = None) -> Measure:
        """The one unit of parts that have to measure the same."""
        measures = measures if measures is not None else [self.of(node) for node in nodes]
        before: Unit | None = None
        before_exact = True
        exact = True
        known = True
        for node, measure in zip(nodes, measures, strict=True):
            if measure.plain:
                continue
            if measure.unit is None:
                known = False
                continue
            exact = exact and measure.exact
            if before is None:
                before, before_exact = measure.unit, measure.exact
                continue
            if measure.exact and before_exact:
                one, other = unit_text(before), unit_text(measure.unit)
                if before.dimensionality != measure.unit.dimensionality:
                    raise self.formula.fault(
                        node, f"this is in {other or 'plain numbers'}, and {one or 'plain numbers'} before it: they cannot be {verb}", "check the units"
                    )  # fmt: skip
                if abs(_scale(measure.unit, before) - 1.0) > 1e-9:
                    raise self.formula.fault(
                        node, f"this is in {'parts of one' if other == '1' else other}, and {'parts of one' if one == '1' else one} before it", "divide or multiply one of them first"
                    )  # fmt: skip
        if before is None:
            return _PLAIN if known else _UNKNOWN
        return Measure(before, exact and known)

    def _operation(self, node: ast.BinOp) -> Measure:
        if isinstance(node.op, ast.Add | ast.Sub):
            verb = "added" if isinstance(node.op, ast.Add) else "subtracted"
            return self._alike([node.left, node.right], verb)
        if isinstance(node.op, ast.Mod):
            return self._alike([node.left, node.right], "taken out of each other")
        left, right = self.of(node.left), self.of(node.right)
        if isinstance(node.op, ast.Pow):
            power = node.right.operand if isinstance(node.right, ast.UnaryOp) else node.right
            value = power.value if isinstance(power, ast.Constant) else None
            if left.plain or left.unit is None or not isinstance(value, int | float):
                return left
            signed = -value if isinstance(node.right, ast.UnaryOp) else value
            return Measure(powered(_difference(left.unit), signed), left.exact)
        if left.plain and right.plain:
            return _PLAIN
        if (not left.plain and left.unit is None) or (not right.plain and right.unit is None):
            return _UNKNOWN
        divides = isinstance(node.op, ast.Div | ast.FloorDiv)
        if right.plain or right.unit is None:
            return Measure(left.unit, exact=False)
        if left.plain or left.unit is None:
            return _inverse(right) if divides else Measure(right.unit, exact=False)
        a, b = _difference(left.unit), _difference(right.unit)
        exact = left.exact and right.exact
        result = a / b if divides else a * b
        return Measure(result, exact and not (_is_percent(a) or _is_percent(b)))

    def _call(self, node: ast.Call) -> Measure:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        rules: dict[str, Callable[[ast.Call], Measure]] = {
            "rate": self._rate,
            "sqrt": self._root,
            "or_else": self._or_else,
            "min": lambda call: self._alike(list(call.args), "chosen between"),
            "max": lambda call: self._alike(list(call.args), "chosen between"),
            "where": self._where,
            "table": self._table,
            "constant": self._constant,
            "held": lambda call: self._always(call, _PLAIN),
            "since": lambda call: self._always(call, Measure(pint_unit("s"))),
            "gear_from": lambda call: self._always(call, _PLAIN),
            "dead_time": lambda call: self._always(call, Measure(pint_unit("ms"))),
            "stoichiometric": lambda call: self._always(call, Measure(pint_unit("1"))),
        }
        measure = rules.get(name)
        return measure(node) if measure is not None else self.of(node.args[0])

    def _always(self, node: ast.Call, measure: Measure) -> Measure:
        """What a function gives whatever it is of; its arguments are looked through all the same."""
        for one in node.args:
            self.of(one)
        return measure

    def _rate(self, node: ast.Call) -> Measure:
        inner = self.of(node.args[0])
        if inner.plain or inner.unit is None:
            return inner
        second = inner.unit._REGISTRY.Unit("second")
        return Measure(_difference(inner.unit) / second, inner.exact)

    def _root(self, node: ast.Call) -> Measure:
        inner = self.of(node.args[0])
        return inner if inner.plain or inner.unit is None else Measure(powered(inner.unit, 0.5), inner.exact)

    def _where(self, node: ast.Call) -> Measure:
        self.of(node.args[0])
        return self._alike(list(node.args[1:]), "chosen between")

    def _constant(self, node: ast.Call) -> Measure:
        given = node.args[0]
        if (self.calibration is None and self.car is None) or not isinstance(given, ast.Constant):
            return _UNKNOWN
        unit = constant_of(self.formula, node, str(given.value), self.calibration, self.car).unit
        return Measure(pint_unit(unit), exact=pint_unit(unit) is not None)

    def _table(self, node: ast.Call) -> Measure:
        first = node.args[0]
        name = first.value if isinstance(first, ast.Constant) else ""
        for table in self.calibration.tables if self.calibration is not None else ():
            if name in (table.id, table.role):
                unit = pint_unit(table.unit)
                return Measure(unit, exact=unit is not None)
        return _UNKNOWN


def _is_percent(unit: Unit) -> bool:
    return unit == unit._REGISTRY.Unit("percent")


def _inverse(right: Measure) -> Measure:
    return Measure(powered(_difference(right.unit), -1) if right.unit is not None else None, exact=False)
