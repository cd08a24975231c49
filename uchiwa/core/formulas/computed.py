"""Computed channels: channels given by formulas over other channels, to any depth."""

from __future__ import annotations

import ast
import re
from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.constants import constant_of, dead_times
from uchiwa.core.formulas.dimension import Meaning, declared, meaning
from uchiwa.core.formulas.language import FUNCTIONS, Formula, FormulaError, MissingChannelError, parse
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Calibration, Table

_NAME = re.compile(r"[a-z][a-z0-9_]{1,39}")
_DEEPEST = 12
_REMEMBERED = 500


@dataclass(frozen=True)
class Computed:
    """A computed channel.

    Attributes:
        id: the name by which formulas call it.
        title: the words shown.
        formula: its text.
        unit: in which its values are wanted; empty for the unit that the formula gives.
        shipped: whether it comes with Uchiwa.
    """

    id: str
    title: str
    formula: str
    unit: str = ""
    shipped: bool = False


class Book:
    """Computed channels by id, free of circles.

    Raises:
        BadInput: a name cannot be used, a formula is no formula, or one depends on itself.
    """

    def __init__(self, channels: Iterable[Computed]) -> None:
        self._channels = {channel.id: channel for channel in channels}
        self._formulas: dict[str, Formula] = {}
        for channel in self._channels.values():
            check_name(channel.id)
            self._formulas[channel.id] = parse(channel.formula)
        depths: dict[str, int] = {}
        for name in self._channels:
            self._depth(name, (), depths)
        self._meanings: dict[tuple[str, Calibration | None, CarFile | None], Meaning] = {}

    def __contains__(self, name: object) -> bool:
        return name in self._channels

    def __getitem__(self, name: str) -> Computed:
        return self._channels[name]

    def __iter__(self) -> Iterator[Computed]:
        return iter(self._channels.values())

    def with_channels(self, channels: Iterable[Computed]) -> Book:
        """This book with channels added, or put in the place of those with the same id."""
        merged = {computed.id: computed for computed in self} | {channel.id: channel for channel in channels}
        return Book(merged.values())

    def formula(self, name: str) -> Formula:
        """The checked formula of a computed channel."""
        return self._formulas[name]

    def needs(self, text: str, calibration: Calibration | None = None) -> tuple[str, ...]:
        """The quantities that a formula may use, computed channels and tables followed to their end, by first use."""
        found: dict[str, None] = {}
        waiting, followed = [text], {text}
        while waiting:
            for formula in self._below(parse(waiting.pop(0))).values():
                found.update(dict.fromkeys(name for name in formula.names if name in QUANTITIES))
                axes = [axis for table in _tables_in(formula, calibration) for axis in (table.x, table.y) if axis]
                for quantity in (axis.quantity for axis in axes):
                    found.setdefault(quantity)
                    if quantity in self._channels and quantity not in followed:
                        followed.add(quantity)
                        waiting.append(quantity)
        return tuple(found)

    def written_out(self, text: str) -> tuple[tuple[str, str], ...]:
        """A formula with the text and unit of every computed channel below it: all that its value depends on."""
        below = self._below(parse(text))
        units = {name: self._channels[name].unit for name in below if name in self._channels}
        return tuple(sorted((f"{name} [{units.get(name, '')}]", formula.text) for name, formula in below.items()))

    def _below(self, formula: Formula) -> dict[str, Formula]:
        """A formula, under no name, and those of all computed channels that it rests on."""
        found = {"": formula}
        waiting = [formula]
        while waiting:
            for name in waiting.pop().names:
                if name in self._channels and name not in found:
                    found[name] = self._formulas[name]
                    waiting.append(self._formulas[name])
        return found

    def lacking(
        self,
        name: str,
        recorded: Container[str],
        calibration: Calibration | None = None,
        car: CarFile | None = None,
    ) -> str:
        """Words for the first thing missing that a computed channel cannot do without; empty if it can be computed."""
        try:
            _Need(self, recorded, calibration, car).check(self._formulas[name].tree.body, self._formulas[name])
        except MissingChannelError as error:
            return error.lacking
        except BadInput as error:
            return error.what
        return ""

    def meaning(self, name: str, calibration: Calibration | None = None, car: CarFile | None = None) -> Meaning:
        """The unit of a computed channel's values."""
        key = (name, calibration, car)
        if key not in self._meanings:
            formula = self._formulas[name]
            found = meaning(formula, self, calibration, car)
            if len(self._meanings) > _REMEMBERED:
                self._meanings.clear()
            self._meanings[key] = declared(found, self._channels[name].unit, formula)
        return self._meanings[key]

    def _depth(self, name: str, path: tuple[str, ...], known: dict[str, int]) -> int:
        """How many computed channels stand on top of each other, this one included."""
        if name in path:
            circle = " → ".join((*path[path.index(name) :], name))
            raise BadInput(f"a channel cannot be computed from itself: {circle}", advice="take one of these steps out")
        if name not in known:
            below = [used for used in self._formulas[name].names if used in self._channels]
            known[name] = 1 + max((self._depth(used, (*path, name), known) for used in below), default=0)
            if known[name] > _DEEPEST:
                raise BadInput(
                    f"{name} rests on more than {_DEEPEST} others, each on top of the other", advice="flatten it"
                )
        return known[name]


def _tables_in(formula: Formula, calibration: Calibration | None) -> list[Table]:
    if calibration is None:
        return []
    wanted = formula.tables
    return [table for table in calibration.tables if table.id in wanted or table.role in wanted] if wanted else []


class _Need:
    """Finds what a formula cannot do without; the first argument of or_else may be missing."""

    def __init__(
        self, book: Book, recorded: Container[str], calibration: Calibration | None, car: CarFile | None
    ) -> None:
        self.book, self.recorded, self.calibration, self.car = book, recorded, calibration, car
        self._known: dict[str, MissingChannelError | None] = {}

    def check(self, node: ast.AST, formula: Formula) -> None:
        """Raises MissingChannelError for the first thing that is missing."""
        if isinstance(node, ast.Name):
            self.name(node.id, node, formula)
            return
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            self._check_call(node, node.func.id, formula)
            return
        for child in ast.iter_child_nodes(node):
            self.check(child, formula)

    def _check_call(self, node: ast.Call, function: str, formula: Formula) -> None:
        first = node.args[0]
        given = str(first.value) if isinstance(first, ast.Constant) else ""
        match function:
            case "or_else":
                try:
                    self.check(first, formula)
                except MissingChannelError:
                    self.check(node.args[1], formula)
            case "constant":
                constant_of(formula, node, given, self.calibration, self.car)
            case "table":
                table = table_named(formula, node, given, self.calibration)
                for axis in (table.x, table.y):
                    if axis is not None:
                        self.name(axis.quantity, node, formula)
            case _:
                if function == "dead_time":
                    dead_times(formula, node, self.car)
                for argument in node.args:
                    self.check(argument, formula)

    def name(self, name: str, node: ast.AST, formula: Formula) -> None:
        """A name in a formula."""
        if name in self.recorded:
            return
        if name in self.book:
            lacking = self._channel(name)
            if lacking is not None:
                raise lacking
            return
        title = QUANTITIES[name].title if name in QUANTITIES else name
        raise MissingChannelError(formula.text, formula.position(node), f"the log has no {title}", lacking=title)

    def _channel(self, name: str) -> MissingChannelError | None:
        """What a computed channel lacks, found out once however many others rest on it."""
        if name not in self._known:
            below = self.book.formula(name)
            self._known[name] = None
            try:
                self.check(below.tree.body, below)
            except MissingChannelError as error:
                self._known[name] = error
        return self._known[name]


def table_named(formula: Formula, node: ast.Call, name: str, calibration: Calibration | None) -> Table:
    """The table of a calibration with this id, or the only one with this role.

    Raises:
        FormulaError: there is none, or several have the role.
    """
    if calibration is None:
        raise formula.fault(node, "table(…) needs a calibration", "open the log of a round that has one")
    with_id = [table for table in calibration.tables if table.id == name]
    found = with_id or list(calibration.by_role(name))
    if not found:
        known = ", ".join(table.id for table in calibration.tables)
        raise MissingChannelError(
            formula.text,
            formula.position(node),
            f"the calibration has no table “{name}”",
            f"it has {known}",
            len(name),
            lacking=f"table {name}",
        )
    if len(found) > 1:
        raise formula.fault(node, f"several tables are a {name}", f"name one: {', '.join(table.id for table in found)}")
    return found[0]


def check_name(name: str) -> None:
    """Refuse a name that formulas could not use.

    Raises:
        BadInput: what is wrong with it.
    """
    if not _NAME.fullmatch(name):
        raise BadInput(
            f"“{name[:40]}” cannot be a name in formulas",
            advice="use 2 to 40 small letters, digits and _, a letter first, such as fuel_error",
        )
    if name in FUNCTIONS or name in ("and", "or", "not", "lambda", "if", "else", "in", "is", "for", "time"):
        raise BadInput(f"“{name}” has a meaning of its own in formulas", advice="choose another name")


def check_channel(
    computed: Computed, book: Book, calibration: Calibration | None = None, car: CarFile | None = None
) -> Book:
    """The book with a channel added or changed, if all of it can be used.

    Raises:
        BadInput: the name, a name in the formula, a circle, or units; a FormulaError says at which character.
    """
    formula = parse(computed.formula)
    known = {other.id for other in book} | {computed.id} | set(QUANTITIES)
    for name in formula.names:
        if name not in known:
            at = computed.formula.find(name)
            raise FormulaError(computed.formula, at, f"“{name}” is not a quantity", "nor a computed channel", len(name))
    changed = book.with_channels([computed])
    changed.meaning(computed.id, calibration, car)
    return changed


_KEYS = frozenset({"id", "title", "formula", "unit"})


def read_channels(data: Any) -> Book:
    """The shipped channels with those of a file, a list of objects with `id`, `formula` and perhaps `title` and `unit`.

    Raises:
        BadInput: it is no such list, or a channel cannot be used; the place says which.
    """
    if not isinstance(data, list):
        raise BadInput("it is not a list of computed channels", advice='write [{"id": …, "formula": …}]')
    book = SHIPPED
    for number, one in enumerate(data):
        if not isinstance(one, dict) or not set(one) <= _KEYS or not {"id", "formula"} <= set(one):
            raise BadInput(
                "a computed channel has an id and a formula, and may have a title and a unit", where=f"[{number}]"
            )
        if not all(isinstance(value, str) for value in one.values()):
            raise BadInput("every field is a text", where=f"[{number}]")
        channel = Computed(one["id"], one.get("title") or one["id"], one["formula"], one.get("unit") or "")
        try:
            book = check_channel(channel, book)
        except BadInput as error:
            raise BadInput(
                error.what, where=f"[{number}] {one['id']}: {error.where or ''}", advice=error.advice
            ) from error
    return book


SHIPPED = Book(
    Computed(name, title, formula, unit, shipped=True)
    for name, title, formula, unit in (
        ("short_trim", "short-term trim of both banks", "or_else((short_term_trim + short_term_trim_2) / 2, or_else(short_term_trim, 0))", "%"),
        ("long_trim", "long-term trim of both banks", "or_else((long_term_trim + long_term_trim_2) / 2, or_else(long_term_trim, 0))", "%"),
        (
            "mixture",
            "mixture of both banks",
            "or_else((lambda_measured + lambda_measured_2) / 2, or_else(lambda_measured, where(loop_state > 0.5, lambda_target, 0 / 0)))",
            "1",
        ),
        ("fuel_error", "fuel error", "(mixture / lambda_target * (1 + short_trim / 100) * (1 + long_trim / 100) * (1 + or_else(fuel_overlay, 0) / 100) - 1) * 100", "%"),
        ("stoichiometric_ratio", "stoichiometric ratio", 'stoichiometric(or_else(ethanol_content, constant("ethanol")))', "1"),
        ("afr_measured", "measured AFR", "mixture * stoichiometric_ratio", "1"),
        ("afr_target", "AFR target", "lambda_target * stoichiometric_ratio", "1"),
        ("pressure_ratio", "pressure ratio", "manifold_pressure / barometric_pressure", "1"),
        ("boost_pressure", "boost", "manifold_pressure - barometric_pressure", "kPa"),
        ("injector_duty", "injector duty", "injector_pulse * engine_speed / 1200", "%"),
        ("charge_share", "coolant's share of the charge temperature", "0", "1"),
        (
            "speed_density_air",
            "air by speed density",
            'table("volumetric_efficiency") / 100 * manifold_pressure * constant("displacement") * engine_speed / 120 / (constant("gas_constant") * (intake_air_temperature + charge_share * (coolant_temperature - intake_air_temperature) + 273.15))',
            "g/s",
        ),
        (
            "injector_dead_time",
            "dead time of the injectors",
            'or_else(dead_time(battery_voltage), or_else(constant("injector_dead_time"), 0))',
            "ms",
        ),
        (
            "injector_pressure",
            "pressure across the injectors",
            'or_else(fuel_pressure, constant("rail_pressure")) + or_else(barometric_pressure, 101.3) - manifold_pressure',
            "kPa",
        ),
        ("injector_gain", "flow of the injectors over their rated one", 'or_else(sqrt(injector_pressure / constant("injector_pressure")), 1)', "1"),
        (
            "fuel_flow",
            "fuel flow",
            'constant("injector_flow") * injector_gain * constant("cylinders") * max(injector_pulse - injector_dead_time, 0) / 1000 * engine_speed / 120',
            "g/s",
        ),
        ("fuel_based_air", "air by fuel and mixture", "fuel_flow * mixture * stoichiometric_ratio", "g/s"),
        ("knock_over_limit", "knock level over limit", "knock_level - knock_limit", "V"),
        ("acceleration", "acceleration", "rate(smooth(vehicle_speed, 0.5)) / 3.6", "m/s²"),
        ("gear", "gear", "gear_from(engine_speed, vehicle_speed)", "1"),
    )
)  # fmt: skip
"""The computed channels that come with Uchiwa; a shop may put its own in the place of any of them."""
