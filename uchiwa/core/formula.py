"""Formulas and conditions: expressions over quantities, evaluated on whole signals.

The text is parsed once and every node checked against a short list before anything is evaluated; the evaluation is
simpleeval's, with the logical operators, comparisons and powers replaced by their array forms.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from typing import Any, TypeAlias

import numpy as np
from simpleeval import EvalWithCompoundTypes, InvalidExpression

from uchiwa.core.errors import BadInput
from uchiwa.core.log import BoolArray, FloatArray
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.signal import rate, smooth
from uchiwa.core.table import Calibration

Signals: TypeAlias = Mapping[str, FloatArray]

_LONGEST = 500
_HIGHEST_POWER = 8.0
_ALLOWED_NODES: tuple[type[ast.AST], ...] = (
    ast.Expression,
    ast.BinOp,
    ast.UnaryOp,
    ast.BoolOp,
    ast.Compare,
    ast.Call,
    ast.Name,
    ast.Constant,
    ast.Load,
    ast.operator,
    ast.unaryop,
    ast.boolop,
    ast.cmpop,
)
_REFUSED_OPERATORS = (ast.MatMult, ast.LShift, ast.RShift, ast.BitXor, ast.Is, ast.IsNot, ast.In, ast.NotIn)
_COMPARE: dict[type[ast.cmpop], Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
FUNCTIONS = ("abs", "max", "min", "sqrt", "rate", "smooth", "delayed", "table")


def _refuse(text: str, node: ast.AST, what: str, advice: str | None = None) -> BadInput:
    column = getattr(node, "col_offset", 0)
    return BadInput(what, where=f"“{text}”, character {column + 1}", advice=advice)


def parse(text: str) -> ast.Expression:
    """The checked syntax tree of a formula.

    Raises:
        BadInput: it is not an expression, or holds anything but arithmetic, comparisons, logic, names and known calls.
    """
    if not text.strip():
        raise BadInput("the formula is empty", advice="write one, such as lambda_measured / lambda_target")
    if len(text) > _LONGEST:
        raise BadInput(f"the formula has more than {_LONGEST} characters", advice="split it")
    try:
        tree = ast.parse(text.strip(), mode="eval")
    except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
        at = getattr(error, "offset", None) or 1
        raise BadInput("this is not a formula", where=f"“{text}”, character {at}", advice="check it there") from error
    called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    texts = {
        id(argument)
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "table"
        for argument in node.args
    }
    for node in ast.walk(tree):
        if not isinstance(node, _ALLOWED_NODES) or isinstance(node, _REFUSED_OPERATORS):
            raise _refuse(text, node, f"{type(node).__name__.lower()} is not part of the language", "use arithmetic")
        if isinstance(node, ast.Call):
            if not isinstance(node.func, ast.Name) or node.func.id not in FUNCTIONS or node.keywords:
                raise _refuse(text, node, "this call is not allowed", f"the functions are {', '.join(FUNCTIONS)}")
        elif isinstance(node, ast.Name) and id(node) not in called and node.id in FUNCTIONS:
            raise _refuse(text, node, f"{node.id} is a function", f"write {node.id}(…)")
        elif (
            isinstance(node, ast.Constant)
            and id(node) not in texts
            and (isinstance(node.value, bool) or not isinstance(node.value, int | float) or abs(node.value) > 1e12)
        ):
            raise _refuse(text, node, "only plain numbers are constants")
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow):
            exponent = node.right.operand if isinstance(node.right, ast.UnaryOp) else node.right
            power = exponent.value if isinstance(exponent, ast.Constant) else None
            if not isinstance(power, int | float) or abs(power) > _HIGHEST_POWER:
                raise _refuse(text, node.right, f"an exponent is a number up to {_HIGHEST_POWER:g}")
    return tree


class _Arrays(EvalWithCompoundTypes):  # type: ignore[misc]
    """simpleeval with logic, comparison and powers over arrays."""

    def __init__(self, **names: Any) -> None:
        super().__init__(**names)
        self.nodes[ast.BoolOp] = self._logic
        self.nodes[ast.Compare] = self._chain
        self.operators[ast.Pow] = np.power
        self.operators[ast.Not] = np.logical_not
        self.operators[ast.Add] = operator.add
        self.operators[ast.Mult] = operator.mul
        self.operators[ast.BitAnd] = np.logical_and
        self.operators[ast.BitOr] = np.logical_or
        self.operators[ast.Invert] = np.logical_not

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


def evaluate(
    text: str, signals: Signals, time: FloatArray, calibration: Calibration | None = None
) -> FloatArray | BoolArray:
    """The value of a formula at every sample; a division by zero is a gap (NaN).

    Args:
        text: such as `lambda_measured / lambda_target - 1` or `rate(throttle_position) > 50`.
        signals: quantity id -> values in canonical units; shape (n,).
        time: seconds; shape (n,).
        calibration: whose tables `table("id")` looks up at each sample.

    Raises:
        BadInput: see `parse`; or a name that is neither a quantity of this log nor a function.
    """
    tree = parse(text)
    called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Name) and id(node) not in called and node.id not in signals:
            if node.id in QUANTITIES:
                raise _refuse(text, node, f"the log has no {QUANTITIES[node.id].title} ({node.id})", "record it")
            raise _refuse(text, node, f"“{node.id}” is not a quantity", "see docs/formats.md for their names")

    def lookup(table_id: object) -> FloatArray:
        if calibration is None or not isinstance(table_id, str):
            raise BadInput("table(…) needs a calibration and the id of a table in quotes", where=f"“{text}”")
        try:
            table = calibration.table(table_id)
        except KeyError:
            raise BadInput(f"the calibration has no table “{table_id}”", where=f"“{text}”") from None
        for axis in (table.x, table.y):
            if axis is not None and axis.quantity not in signals:
                raise BadInput(f"the log has no {axis.title}, an axis of {table_id}", where=f"“{text}”")
        return table.lookup(signals[table.x.quantity], signals[table.y.quantity] if table.y else None)

    functions: dict[str, Callable[..., Any]] = {
        "abs": np.abs,
        "sqrt": np.sqrt,
        "max": np.maximum,
        "min": np.minimum,
        "rate": lambda values: rate(time, values),
        "smooth": lambda values, window: smooth(time, values, float(window)),
        "delayed": lambda values, seconds: np.interp(time - float(seconds), time, values, left=np.nan),
        "table": lookup,
    }
    evaluator = _Arrays(names=dict(signals), functions=functions)
    try:
        with np.errstate(all="ignore"):
            result = np.asarray(evaluator.eval(text, previously_parsed=tree.body))
    except BadInput:
        raise
    except (InvalidExpression, TypeError, ValueError, ArithmeticError, AttributeError, RecursionError) as error:
        raise BadInput(
            "this cannot be computed", where=f"“{text}”", advice="check the arguments of its calls"
        ) from error
    result = np.broadcast_to(result, time.shape)
    if result.dtype == np.bool_:
        return result.copy()
    values = result.astype(np.float64)
    values[~np.isfinite(values)] = np.nan
    return values


def condition(text: str, signals: Signals, time: FloatArray, calibration: Calibration | None = None) -> BoolArray:
    """Where a condition holds; a gap does not hold.

    Raises:
        BadInput: see `evaluate`; or the formula is a number rather than a condition.
    """
    result = evaluate(text, signals, time, calibration)
    if result.dtype != np.bool_:
        raise BadInput("this is a number, not a condition", where=f"“{text}”", advice="compare it with something")
    return np.asarray(result, dtype=np.bool_)
