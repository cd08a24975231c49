"""The language of formulas: which texts are formulas, and where one that is not goes wrong."""

from __future__ import annotations

import ast
from dataclasses import dataclass
from functools import cached_property, lru_cache
from threading import Lock

from uchiwa.core.errors import BadInput

LONGEST = 500
MOST_NODES = 250
MOST_CALLS = 40
DEEPEST = 50
HIGHEST_POWER = 8.0
LARGEST_NUMBER = 1e12


class FormulaError(BadInput):
    """A formula that cannot be used.

    Attributes:
        position: index of the character at which the fault lies.
        length: characters from there that it covers, at least 1.
    """

    def __init__(self, text: str, position: int, what: str, advice: str | None = None, length: int = 1) -> None:
        self.position = min(max(position, 0), max(len(text) - 1, 0))
        self.length = max(1, length)
        place = f"“{text if len(text) <= 60 else text[:57] + '…'}”, character {self.position + 1}"
        super().__init__(what, where=place, advice=advice)


class MissingChannelError(FormulaError):
    """The log, the calibration or the car file lacks something that the formula needs.

    Attributes:
        lacking: what that is, in a few words.
    """

    def __init__(
        self, text: str, position: int, what: str, advice: str | None = None, length: int = 1, lacking: str = ""
    ) -> None:
        self.lacking = lacking or what
        super().__init__(text, position, what, advice, length)


@dataclass(frozen=True)
class Function:
    """A function of the language.

    Attributes:
        least, most: number of arguments.
        words: how it is written, and what it gives.
    """

    least: int
    most: int
    written: str
    words: str


FUNCTIONS: dict[str, Function] = {
    "abs": Function(1, 1, "abs(x)", "x without its sign"),
    "min": Function(2, 6, "min(x, y)", "the lower of the two at each sample"),
    "max": Function(2, 6, "max(x, y)", "the higher of the two at each sample"),
    "sqrt": Function(1, 1, "sqrt(x)", "square root; a gap below zero"),
    "rate": Function(1, 1, "rate(x)", "change of x per second"),
    "smooth": Function(2, 2, "smooth(x, 0.3)", "centred mean over so many seconds"),
    "delayed": Function(2, 2, "delayed(x, 0.2)", "x as it was so many seconds ago"),
    "held": Function(2, 2, "held(condition, 0.5)", "the condition, kept for so many seconds after it last held"),
    "since": Function(1, 1, "since(condition)", "seconds since the condition began to hold, or the log; a gap while it does not"),
    "where": Function(3, 3, "where(condition, x, y)", "x where the condition holds, else y"),
    "or_else": Function(2, 2, "or_else(x, y)", "x, or y where x has no reading or the log has no such channel"),
    "table": Function(1, 1, 'table("ve_main")', "the calibration's own lookup, by a table's id or role"),
    "constant": Function(1, 1, 'constant("displacement")', "a constant of the calibration or of the car file"),
    "dead_time": Function(1, 1, "dead_time(battery_voltage)", "dead time of the injectors at so many volts, ms, by the car file"),
    "stoichiometric": Function(1, 1, "stoichiometric(ethanol_content)", "air-fuel ratio at λ 1 of petrol with so much ethanol"),
    "gear_from": Function(2, 2, "gear_from(engine_speed, vehicle_speed)", "gear by the ratio of the two, 1 the shortest seen"),
}  # fmt: skip
_NAMED = ("table", "constant")
"""Functions whose argument is a name in quotes."""
SECONDS = {"smooth": 1, "delayed": 1, "held": 1}
"""Functions with an argument, by its place, that is a plain number of seconds."""

_parsing = Lock()
"""The interpreter counts the depth of its syntax trees for all threads together, and trips where two build one at a time."""

_ALLOWED: tuple[type[ast.AST], ...] = (
    ast.Expression, ast.BinOp, ast.UnaryOp, ast.BoolOp, ast.Compare, ast.Call, ast.Name, ast.Constant, ast.Load,
    ast.operator, ast.unaryop, ast.boolop, ast.cmpop,
)  # fmt: skip
_REFUSED = (
    ast.MatMult, ast.LShift, ast.RShift, ast.BitXor, ast.BitAnd, ast.BitOr, ast.Invert,
    ast.Is, ast.IsNot, ast.In, ast.NotIn,
)  # fmt: skip
_WORDS: dict[type[ast.AST], str] = {
    ast.Attribute: "a dot after a name", ast.Subscript: "an index in brackets", ast.Lambda: "lambda", ast.ListComp: "a list",
    ast.List: "a list", ast.Tuple: "a list", ast.Dict: "a dictionary", ast.JoinedStr: "formatted text", ast.MatMult: "@",
    ast.LShift: "<<", ast.RShift: ">>", ast.BitXor: "^", ast.BitAnd: "&", ast.BitOr: "|", ast.Invert: "~",
    ast.Is: "is", ast.IsNot: "is not", ast.In: "in", ast.NotIn: "not in", ast.IfExp: "if",
    ast.NamedExpr: ":=", ast.Starred: "*", ast.keyword: "an argument with =",
}  # fmt: skip
_INSTEAD: dict[type[ast.AST], str] = {
    ast.BitXor: "write ** for a power",
    ast.BitAnd: "write and",
    ast.BitOr: "write or",
    ast.Invert: "write not",
    ast.IfExp: "write where(condition, x, y)",
}


@dataclass(frozen=True)
class Formula:
    """A checked formula.

    Attributes:
        text: as it was written.
        tree: its syntax tree; every number in it is a float.
        names: the names that it uses, in order of their first use.
    """

    text: str
    tree: ast.Expression
    names: tuple[str, ...]

    @cached_property
    def named(self) -> tuple[ast.Name, ...]:
        """Where its names stand."""
        return tuple(node for node in ast.walk(self.tree) if isinstance(node, ast.Name) and node.id in self.names)

    @cached_property
    def calls(self) -> dict[ast.Call, str]:
        """Its calls, each with what it calls, written so that equal calls are alike."""
        found = (node for node in ast.walk(self.tree) if isinstance(node, ast.Call))
        return {node: ast.dump(node, include_attributes=False) for node in found}

    @cached_property
    def tables(self) -> frozenset[str]:
        """The ids or roles of the tables that it looks up."""
        return frozenset(
            str(node.args[0].value)
            for node in self.calls
            if isinstance(node.func, ast.Name) and node.func.id == "table" and isinstance(node.args[0], ast.Constant)
        )

    def position(self, node: ast.AST) -> int:
        """Index of the character at which a part of it begins."""
        return _position(self.text, node)

    def fault(self, node: ast.AST, what: str, advice: str | None = None) -> FormulaError:
        """An error at a part of it."""
        end = getattr(node, "end_col_offset", None)
        start = getattr(node, "col_offset", 0)
        return FormulaError(self.text, self.position(node), what, advice, (end - start) if end else 1)


def _lead(text: str) -> int:
    return len(text) - len(text.lstrip())


def _position(text: str, node: ast.AST) -> int:
    """Syntax trees count bytes from the first letter that is not a blank."""
    line = getattr(node, "lineno", 1)
    inside = text.strip().split("\n")
    before = sum(len(one) + 1 for one in inside[: line - 1])
    here = inside[line - 1] if line <= len(inside) else ""
    column = len(here.encode()[: getattr(node, "col_offset", 0)].decode(errors="ignore"))
    return _lead(text) + before + column


@lru_cache(2_000)
def parse(text: str) -> Formula:
    """The checked form of a formula.

    Raises:
        FormulaError: it is not an expression, holds anything but arithmetic, comparisons, logic, names and known calls,
            or is too large.
    """
    if not text.strip():
        raise FormulaError(text, 0, "the formula is empty", "write one, such as lambda_measured / lambda_target")
    if len(text) > LONGEST:
        raise FormulaError(text, LONGEST, f"the formula has more than {LONGEST} characters", "split it")
    if not text.isprintable():
        at = next(place for place, letter in enumerate(text) if not letter.isprintable())
        raise FormulaError(text, at, "this character cannot stand in a formula", "write it in one line")
    tree = _tree(text)
    formula = Formula(text, tree, ())
    _check_size(formula)
    called = _check_parts(formula)
    names = [node for node in ast.walk(tree) if isinstance(node, ast.Name) and id(node) not in called]
    ordered = sorted(names, key=lambda node: node.col_offset)
    return Formula(text, tree, tuple(dict.fromkeys(node.id for node in ordered)))


def _tree(text: str) -> ast.Expression:
    try:
        with _parsing:
            return ast.parse(text.strip(), mode="eval")
    except SyntaxError as error:
        at = _lead(text) + len(text.strip().encode()[: max((error.offset or 1) - 1, 0)].decode(errors="ignore"))
        raise FormulaError(text, at, "this is not a formula", "check it there") from error
    except (ValueError, MemoryError, RecursionError) as error:
        raise FormulaError(text, 0, "this is not a formula", "check its brackets") from error


def _check_parts(formula: Formula) -> set[int]:
    """Refuse what may not stand in a formula; the ids of the nodes that are the names of functions."""
    quoted: set[int] = set()
    called: set[int] = set()
    for node in ast.walk(formula.tree):
        if not isinstance(node, _ALLOWED) or isinstance(node, _REFUSED):
            _refuse_part(formula, node)
        if isinstance(node, ast.Call):
            called.add(id(node.func))
            quoted |= _check_call(formula, node)
    for node in ast.walk(formula.tree):
        if isinstance(node, ast.Constant) and id(node) not in quoted:
            _check_number(formula, node)
        elif isinstance(node, ast.Name) and id(node) not in called and node.id in FUNCTIONS:
            raise formula.fault(node, f"{node.id} is a function", f"write {FUNCTIONS[node.id].written}")
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow):
            _check_power(formula, node)
    return called


def _refuse_part(formula: Formula, node: ast.AST) -> None:
    place = node
    if not hasattr(node, "col_offset"):
        holders = [one for one in ast.walk(formula.tree) if node in ast.iter_child_nodes(one)]
        place = holders[0] if holders else node
        if isinstance(place, ast.BinOp):
            place = place.right
        elif isinstance(place, ast.Compare):
            place = place.comparators[0]
    said = _WORDS.get(type(node), type(node).__name__.lower())
    raise formula.fault(place, f"{said} is not part of the language", _INSTEAD.get(type(node), "use arithmetic"))


def _check_size(formula: Formula) -> None:
    count, calls = 0, 0
    level: list[ast.AST] = [formula.tree]
    for _ in range(DEEPEST):
        count += len(level)
        calls += sum(isinstance(node, ast.Call) for node in level)
        level = [child for node in level for child in ast.iter_child_nodes(node)]
        if not level:
            break
    if level or count > MOST_NODES or calls > MOST_CALLS:
        raise FormulaError(formula.text, 0, "the formula is too involved", "split it into computed channels")


def _check_call(formula: Formula, node: ast.Call) -> set[int]:
    """The ids of the nodes that may be texts."""
    name = node.func.id if isinstance(node.func, ast.Name) else ""
    if name not in FUNCTIONS:
        raise formula.fault(node, "this call is not allowed", f"the functions are {', '.join(FUNCTIONS)}")
    known = FUNCTIONS[name]
    if node.keywords or any(isinstance(one, ast.Starred) for one in node.args):
        raise formula.fault(node, "this call is not allowed", f"write {known.written}")
    if not known.least <= len(node.args) <= known.most:
        raise formula.fault(
            node, f"{name} cannot be computed from {len(node.args)} arguments", f"write {known.written}"
        )
    if name in SECONDS:
        given = node.args[SECONDS[name]]
        if not (isinstance(given, ast.Constant) and isinstance(given.value, int | float) and 0 <= given.value <= 600):
            raise formula.fault(given, "this is not a number of seconds up to 600", f"write {known.written}")
    if name in _NAMED:
        first = node.args[0]
        if not (isinstance(first, ast.Constant) and isinstance(first.value, str)):
            raise formula.fault(first, f"{name} wants a name in quotes", f"write {known.written}")
        return {id(first)}
    return set()


def _check_number(formula: Formula, node: ast.Constant) -> None:
    value = node.value
    if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) <= LARGEST_NUMBER:
        raise formula.fault(node, "only plain numbers are constants", f"up to {LARGEST_NUMBER:g}")
    node.value = float(value)


def _check_power(formula: Formula, node: ast.BinOp) -> None:
    exponent = node.right.operand if isinstance(node.right, ast.UnaryOp) else node.right
    power = exponent.value if isinstance(exponent, ast.Constant) else None
    if isinstance(power, bool) or not isinstance(power, int | float) or abs(power) > HIGHEST_POWER:
        raise formula.fault(node.right, f"an exponent is a number up to {HIGHEST_POWER:g}")
