"""Formulas and conditions evaluated on whole signals.

A text is parsed once and every part of it checked before anything is evaluated (see `language`); the evaluation is
simpleeval's, with the logical operators, comparisons, powers and calls replaced by their array forms.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import reduce
from typing import Any, TypeAlias

import numpy as np
from simpleeval import EvalWithCompoundTypes, InvalidExpression

from uchiwa.core.airflow.injectors import dead_time_at
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book, table_named
from uchiwa.core.formulas.constants import constant_of, dead_times
from uchiwa.core.formulas.dimension import Meaning, meaning
from uchiwa.core.formulas.gears import gear_from
from uchiwa.core.formulas.language import SECONDS, Formula, FormulaError, MissingChannelError, parse
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import held, rate, since, smooth
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration

Signals: TypeAlias = Mapping[str, FloatArray]
_COMPARE: dict[type[ast.cmpop], Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}


@dataclass(frozen=True, eq=False)
class Scope:
    """What formulas may name beside recorded channels.

    Attributes:
        calibration: whose tables and constants they look up.
        car: whose constants they look up where the calibration has none.
        book: the computed channels; a recorded channel of the same id goes before a computed one.
    """

    calibration: Calibration | None = None
    car: CarFile | None = None
    book: Book = SHIPPED


NOTHING_ELSE = Scope()


class Workings:
    """A log's signals on one time base, with its computed channels, each worked out once when it is first asked for.

    Args:
        time: seconds, rising; shape (n,).
        signals: quantity id -> recorded values in canonical units, each of shape (n,).
        scope: what else formulas may name.
        units_known: whether the formulas' units were found to go together before, so that they are not looked at again.
    """

    def __init__(
        self,
        time: FloatArray,
        signals: Signals,
        scope: Scope = NOTHING_ELSE,
        *,
        units_known: bool = False,
    ) -> None:
        self.time, self.signals = time, signals
        self.calibration, self.car, self.book = scope.calibration, scope.car, scope.book
        self.units_known = units_known
        self._known: dict[str, FloatArray] = {}
        self._lacking: dict[str, MissingChannelError] = {}
        self._under_way: list[str] = []

    def channel(self, name: str) -> FloatArray:
        """The values of a recorded or computed channel; shape (n,).

        Raises:
            BadInput: there is no such channel, or the log lacks what it is computed from.
        """
        return self._named(name, parse(name) if name.isidentifier() else None)

    def _named(self, name: str, formula: Formula | None, node: ast.AST | None = None) -> FloatArray:
        if name in self.signals:
            return self.signals[name]
        if name in self._known:
            return self._known[name]
        fault = _faults(formula, node, name)
        if name in self.book:
            try:
                values = self._computed(name)
            except MissingChannelError as error:
                raise fault(f"{error.what}, from which {name} is computed", error.advice) from error
            said = self.book.meaning(name, self.calibration, self.car)
            self._known[name] = values * said.factor if said.factor != 1.0 else values
            return self._known[name]
        if name in QUANTITIES:
            raise fault(f"the log has no {QUANTITIES[name].title} ({name})", "record it")
        raise _unknown(formula, node, name)

    def _computed(self, name: str) -> FloatArray:
        """A computed channel in its formula's own unit; what it lacks is found out once, however many ask for it."""
        if name in self._lacking:
            raise self._lacking[name]
        if name in self._under_way:
            circle = " → ".join((*self._under_way[self._under_way.index(name) :], name))
            raise BadInput(f"a channel cannot be computed from itself: {circle}", advice="take one of these steps out")
        self._under_way.append(name)
        try:
            return np.asarray(self.value(self.book[name].formula), dtype=np.float64)
        except MissingChannelError as error:
            self._lacking[name] = error
            raise
        finally:
            self._under_way.pop()

    def value(self, text: str) -> FloatArray | BoolArray:
        """The value of a formula at every sample; a division by zero is a gap (NaN).

        Raises:
            FormulaError: see `parse`; or a name is not known, units do not go together, or the log lacks a channel.
        """
        formula = parse(text)
        for node in formula.named:
            if not self._knows(node.id):
                raise _unknown(formula, node, node.id)
        if not self.units_known:
            meaning(formula, self.book, self.calibration, self.car, self.signals)
        evaluator = _Arrays(formula, self)
        try:
            with np.errstate(all="ignore"):
                result = np.asarray(evaluator.eval(text, previously_parsed=formula.tree.body))
        except BadInput:
            raise
        except (InvalidExpression, TypeError, ValueError, ArithmeticError, AttributeError, RecursionError) as error:
            raise FormulaError(text, 0, "this cannot be computed", "check the arguments of its calls") from error
        result = np.broadcast_to(result, self.time.shape)
        if result.dtype == np.bool_:
            return result.copy()
        values = result.astype(np.float64)
        values[~np.isfinite(values)] = np.nan
        return values

    def condition(self, text: str) -> BoolArray:
        """Where a condition holds; a gap does not hold.

        Raises:
            FormulaError: see `value`; or the formula is a number rather than a condition.
        """
        result = self.value(text)
        if result.dtype != np.bool_:
            raise FormulaError(text, 0, "this is a number, not a condition", "compare it with something", len(text))
        return np.asarray(result, dtype=np.bool_)

    def meaning(self, text: str) -> Meaning:
        """The unit of a formula's values."""
        return meaning(parse(text), self.book, self.calibration, self.car, self.signals)

    def _knows(self, name: str) -> bool:
        return name in self.signals or name in self.book or name in QUANTITIES

    def lookup(self, formula: Formula, node: ast.Call, name: str) -> FloatArray:
        """A table of the calibration at each sample."""
        table = table_named(formula, node, name, self.calibration)
        along = [
            convert(self._named(axis.quantity, formula, node), QUANTITIES[axis.quantity].unit, axis.unit)
            for axis in (table.x, table.y)
            if axis is not None
        ]
        return table.lookup(along[0], along[1] if len(along) > 1 else None)


def _faults(formula: Formula | None, node: ast.AST | None, name: str) -> Callable[[str, str | None], FormulaError]:
    def fault(what: str, advice: str | None) -> FormulaError:
        text = formula.text if formula is not None else name
        at = formula.position(node) if formula is not None and node is not None else 0
        return MissingChannelError(text, at, what, advice, len(name))

    return fault


def _unknown(formula: Formula | None, node: ast.AST | None, name: str) -> FormulaError:
    text = formula.text if formula is not None else name
    at = formula.position(node) if formula is not None and node is not None else 0
    return FormulaError(
        text,
        at,
        f"“{name}” is not a quantity",
        "nor a computed channel; begin to type it to see what there is",
        len(name),
    )


class _Arrays(EvalWithCompoundTypes):  # type: ignore[misc]
    """simpleeval with logic, comparisons, powers and calls over arrays; equal calls are worked out once."""

    def __init__(self, formula: Formula, workings: Workings) -> None:
        super().__init__(names={}, functions={})
        self.formula, self.workings = formula, workings
        self.called: dict[str, Any] = {}
        self.nodes[ast.BoolOp] = self._logic
        self.nodes[ast.Compare] = self._chain
        self.nodes[ast.Name] = self._name
        self.nodes[ast.Call] = self._call
        self.nodes[ast.Constant] = self._number
        self.operators[ast.Pow] = np.power
        self.operators[ast.Not] = np.logical_not
        self.operators[ast.Add] = operator.add
        self.operators[ast.Mult] = operator.mul

    def _number(self, node: ast.Constant) -> Any:
        return np.float64(node.value) if isinstance(node.value, float) else node.value

    def _name(self, node: ast.Name) -> FloatArray:
        return self.workings._named(node.id, self.formula, node)

    def _logic(self, node: ast.BoolOp) -> Any:
        join = np.logical_and if isinstance(node.op, ast.And) else np.logical_or
        result = self._eval(node.values[0])
        for value in node.values[1:]:
            result = join(result, self._eval(value))
        return result

    def _chain(self, node: ast.Compare) -> Any:
        left, result = self._eval(node.left), None
        for op, right_node in zip(node.ops, node.comparators, strict=True):
            right = self._eval(right_node)
            this = _COMPARE[type(op)](left, right)
            result = this if result is None else np.logical_and(result, this)
            left = right
        return result

    def _call(self, node: ast.Call) -> Any:
        key = self.formula.calls[node]
        if key not in self.called:
            self.called[key] = self._apply(node)
        return self.called[key]

    def _apply(self, node: ast.Call) -> Any:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name == "or_else":
            return self._or_else(node)
        given = [self._eval(one) for one in node.args]
        if name in _EACH_SAMPLE:
            return _EACH_SAMPLE[name](given)
        if name in _OF_THE_CAR:
            return _OF_THE_CAR[name](self, node, given[0])
        time = self.workings.time
        whole = [
            one if place == SECONDS.get(name) else np.broadcast_to(np.asarray(one), time.shape)
            for place, one in enumerate(given)
        ]
        return _OVER_TIME[name](time, whole)

    def _or_else(self, node: ast.Call) -> Any:
        try:
            first = self._eval(node.args[0])
        except MissingChannelError:
            return self._eval(node.args[1])
        if np.isfinite(first).all():
            return first
        return np.where(np.isfinite(first), first, self._eval(node.args[1]))

    def table(self, node: ast.Call, name: Any) -> Any:
        """A table's value at each sample."""
        return self.workings.lookup(self.formula, node, name)

    def constant(self, node: ast.Call, name: Any) -> Any:
        """A constant of the calibration or the car."""
        return np.float64(constant_of(self.formula, node, name, self.workings.calibration, self.workings.car).value)

    def dead_time(self, node: ast.Call, volts: Any) -> Any:
        """The injectors' dead time at a voltage, ms."""
        points = dead_times(self.formula, node, self.workings.car)
        return dead_time_at(points, np.asarray(volts, dtype=np.float64))


_EACH_SAMPLE: dict[str, Callable[[list[Any]], Any]] = {
    "abs": lambda given: np.abs(given[0]),
    "sqrt": lambda given: np.sqrt(given[0]),
    "min": lambda given: reduce(np.minimum, given),
    "max": lambda given: reduce(np.maximum, given),
    "where": lambda given: np.where(np.asarray(given[0], dtype=np.bool_), given[1], given[2]),
    "stoichiometric": lambda given: stoichiometric_ratio(np.asarray(given[0], dtype=np.float64)),
}
_OF_THE_CAR: dict[str, Callable[[_Arrays, ast.Call, Any], Any]] = {
    "table": _Arrays.table,
    "constant": _Arrays.constant,
    "dead_time": _Arrays.dead_time,
}
_OVER_TIME: dict[str, Callable[[FloatArray, list[Any]], Any]] = {
    "rate": lambda time, whole: rate(time, whole[0].astype(np.float64)),
    "smooth": lambda time, whole: smooth(time, whole[0].astype(np.float64), float(whole[1])),
    "delayed": lambda time, whole: np.interp(time - float(whole[1]), time, whole[0].astype(np.float64), left=np.nan),
    "held": lambda time, whole: held(time, whole[0].astype(np.bool_), float(whole[1])),
    "since": lambda time, whole: since(time, whole[0].astype(np.bool_)),
    "gear_from": lambda _time, whole: gear_from(whole[0].astype(np.float64), whole[1].astype(np.float64)),
}


def evaluate(text: str, signals: Signals, time: FloatArray, scope: Scope = NOTHING_ELSE) -> FloatArray | BoolArray:
    """The value of a formula at every sample; see `Workings.value`."""
    return Workings(time, signals, scope).value(text)


def condition(text: str, signals: Signals, time: FloatArray, scope: Scope = NOTHING_ELSE) -> BoolArray:
    """Where a condition holds; see `Workings.condition`."""
    return Workings(time, signals, scope).condition(text)
