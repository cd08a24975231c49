"""A layout from a description and what a person says to it; what a layout cannot hold is listed, the rest works."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert, known_unit
from uchiwa.core.tables.a2l.assignment import TABLE_ROLES, Assignment, Input, TakenCharacteristic
from uchiwa.core.tables.a2l.conversion import Conversion, NotRepresentableError, decimals_of
from uchiwa.core.tables.a2l.description import AxisDescription, Characteristic, Description, byte_order
from uchiwa.core.tables.a2l.record_layout import COUNT, POINTS, VALUES, Part, RecordLayout, number_type, size_of
from uchiwa.core.tables.a2l.suggestion import quantity_of
from uchiwa.core.tables.image.layout import AxisPlace, ConstantPlace, Identity, Layout, Place, TablePlace
from uchiwa.core.tables.image.layout_json import LARGEST, checksum_of, identity_of
from uchiwa.core.tables.image.number import ByteOrder, Number
from uchiwa.core.tables.interchange.calibration_json import axis_of

_NO_IDENTIFIER = re.compile(r"[^a-z0-9_-]+")

_LETTERS = "XY"
_ONE = np.ones(1)
_LEAST_POINTS, _MOST_POINTS = 2, 256


@dataclass(frozen=True)
class LeftOut:
    """A characteristic that was to be taken and cannot be, and why, as a clause."""

    name: str
    why: str


@dataclass(frozen=True, eq=False)
class DescribedLayout:
    """A layout, and what of the description it does not hold.

    Attributes:
        layout: what works.
        left_out: characteristics that were chosen and that it cannot hold.
        notes: what to know of the description, as sentences.
    """

    layout: Layout
    left_out: tuple[LeftOut, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Extent:
    """Address and bytes of a whole image."""

    base: int
    size: int


def layout_from(description: Description, said: Assignment, extent: Extent | None = None) -> DescribedLayout:
    """The layout of the characteristics that are taken.

    Args:
        description: of the controller.
        said: which characteristics are taken, as what.
        extent: of the image, if there is one.

    Raises:
        BadInput: none of those that are taken can be held, the image's extent is not known, or two overlap.
    """
    constants: list[ConstantPlace] = []
    tables: list[TablePlace] = []
    left_out: list[LeftOut] = []
    identities: dict[tuple[int, bytes], Identity] = {}
    if description.identity is not None:
        identities[description.identity] = Identity(*description.identity)
    ids: set[str] = set()
    for name, taken in said.take.items():
        characteristic = description.by_name.get(name)
        try:
            if characteristic is None:
                raise NotRepresentableError("the description has none of this name")
            reading = _Reading(description, said, characteristic, taken, _free_id(taken.id or name, ids))
            reading.read(constants, tables)
        except NotRepresentableError as error:
            left_out.append(LeftOut(name, str(error)))
        else:
            ids.add(reading.id)
            identities |= {(identity.address, identity.data): identity for identity in reading.counts}
    if not tables and not constants:
        why = f": {left_out[0].name}, {left_out[0].why}" if left_out else ""
        advice = "take characteristics that are values, curves or maps"
        raise BadInput(f"nothing of the description can be held{why}", where=description.name, advice=advice)
    found = extent or _extent(description, said, tables, constants)
    for number, identity in enumerate(said.identity):
        made = identity_of(identity, f"identity[{number}]")
        identities[made.address, made.data] = made
    order: ByteOrder = "little" if description.order == "little" else "big"
    layout = Layout(
        said.id or _identifier(description.name), said.title or description.words or description.name,
        said.calibration or _identifier(description.name), said.calibration_title or description.words or description.name,
        found.base, found.size, tuple(identities.values()), tuple(constants), tuple(tables),
        tuple(checksum_of(checksum, order) for checksum in said.checksums),
    )  # fmt: skip
    layout.check()
    return DescribedLayout(layout, tuple(left_out), description.notes)


def _identifier(name: str) -> str:
    """A name as an id."""
    plain = _NO_IDENTIFIER.sub("_", name.lower()).strip("_-")[:60]
    return plain if plain[:1].isalpha() else f"c_{plain}"[:60]


def _free_id(name: str, taken: set[str]) -> str:
    made, number = _identifier(name), 2
    found = made
    while found in taken:
        found, number = f"{made}_{number}", number + 1
    return found


def _extent(
    description: Description, said: Assignment, tables: list[TablePlace], constants: list[ConstantPlace]
) -> Extent:
    """Of the image, by what was said, else by the memory segments in which what is taken stands.

    Raises:
        BadInput: neither tells.
    """
    if said.base is not None and said.size is not None:
        return Extent(said.base, said.size)
    addresses = [table.place.address for table in tables] + [constant.place.address for constant in constants]
    segments = [
        segment for segment in description.segments
        if segment.size > 0 and any(segment.address <= at < segment.address + segment.size for at in addresses)
    ]  # fmt: skip
    if segments:
        base = min(segment.address for segment in segments)
        size = max(segment.address + segment.size for segment in segments) - base
        if size <= LARGEST:
            return Extent(base, size)
    raise BadInput(
        "the description does not say where the image begins and how large it is",
        where=description.name,
        advice="give the image with it, or say base and size",
    )


class _Reading:
    """One characteristic that becomes a table or a constant."""

    def __init__(
        self,
        description: Description,
        said: Assignment,
        characteristic: Characteristic,
        taken: TakenCharacteristic,
        id_: str,
    ) -> None:
        self.description, self.said, self.one, self.taken, self.id = description, said, characteristic, taken, id_
        self.counts: list[Identity] = []

    def read(self, constants: list[ConstantPlace], tables: list[TablePlace]) -> None:
        """Add it to those that are read.

        Raises:
            NotRepresentableError: a layout cannot hold it.
        """
        if self.one.refused:
            raise NotRepresentableError(self.one.refused)
        if self.one.kind == "VALUE":
            constants.append(self._constant())
        else:
            tables.append(self._table())

    def _unit(self, conversion: Conversion) -> str:
        if self.taken.unit is not None:
            return self.taken.unit
        return conversion.unit if self.one.unit is None else self.one.unit

    def _number(self, part: Part, conversion: Conversion, order: str) -> Number:
        scale, offset, rational = conversion.scaling
        found: ByteOrder = "little" if (byte_order(order) if order else self.description.order) == "little" else "big"
        return Number(number_type(part), found, scale, offset, rational)

    def _constant(self) -> ConstantPlace:
        conversion = self.description.conversion(self.one.conversion)
        record = self.description.record(self.one.deposit)
        address, part = _part(record.addresses(self.one.address, {}, self.description.alignment), VALUES)
        number = self._number(part, conversion, self.one.order)
        return ConstantPlace(self.id, self.taken.role, self._unit(conversion), Place(address, number))

    def _table(self) -> TablePlace:
        one = self.one
        role = self.taken.role if self.taken.role in TABLE_ROLES else "other"
        wanted = 2 if one.kind == "MAP" else 1
        if len(one.axes) != wanted:
            raise NotRepresentableError(f"it has {len(one.axes)} axes, and a {one.kind.lower()} has {wanted}")
        record = self.description.record(one.deposit)
        sizes = [self._size(axis, record, letter) for axis, letter in zip(one.axes, _LETTERS, strict=False)]
        rooms = {VALUES: sizes[0] * (sizes[1] if wanted == 2 else 1)}
        rooms |= {f"{POINTS}{letter}": size for letter, size in zip(_LETTERS, sizes, strict=False)}
        found = record.addresses(one.address, rooms, self.description.alignment)
        axes = [
            self._axis(axis, size, found, letter) for axis, size, letter in zip(one.axes, sizes, _LETTERS, strict=False)
        ]
        address, part = _part(found, VALUES)
        if wanted == 2 and part.order not in ("ROW_DIR", "COLUMN_DIR"):
            raise NotRepresentableError(f"its values are laid in the order {part.order}")
        conversion = self.description.conversion(one.conversion)
        number = self._number(part, conversion, one.order)
        decimals = self.taken.decimals
        if decimals is None:
            decimals = decimals_of(one.format) if one.format else conversion.decimals
        low, high = min(one.low, one.high), max(one.low, one.high)
        return TablePlace(
            self.id, self.taken.title or one.words or one.name, role, self._unit(conversion), axes[0],
            axes[1] if wanted == 2 else None, Place(address, number, rooms[VALUES]), low, high, decimals,
            wanted == 2 and part.order == "COLUMN_DIR",
        )  # fmt: skip

    def _size(self, axis: AxisDescription, record: RecordLayout, letter: str) -> int:
        if axis.kind == "FIX_AXIS":
            size = len(axis.fixed)
        elif axis.kind == "COM_AXIS":
            points = self.description.axes.get(axis.points)
            if points is None:
                raise NotRepresentableError(f"its axis {axis.points} is not in the file")
            size = min(points.most, axis.most) if axis.most else points.most
        elif axis.kind == "STD_AXIS":
            size = record.fixed_counts.get(letter, axis.most)
        else:
            raise NotRepresentableError(f"one of its axes is a {axis.kind}")
        if not _LEAST_POINTS <= size <= _MOST_POINTS:
            raise NotRepresentableError(f"one of its axes has {size} breakpoints")
        return size

    def _axis(self, axis: AxisDescription, size: int, found: dict[str, tuple[int, Part]], letter: str) -> AxisPlace:
        if axis.kind == "COM_AXIS":
            return self._shared_axis(axis, size)
        conversion = self.description.conversion(axis.conversion)
        quantity, unit = self._looked_up(axis.input, axis.unit if axis.unit is not None else conversion.unit)
        if axis.kind == "FIX_AXIS":
            scale, offset, rational = conversion.scaling
            if rational is not None:
                raise NotRepresentableError("its fixed axis has a rational conversion")
            try:
                points = [round(raw * scale + offset, 9) for raw in axis.fixed]
                return AxisPlace(quantity, unit, None, axis_of(quantity, unit, points, self.one.name))
            except BadInput as error:
                raise NotRepresentableError(error.what) from None
        return self._placed(
            found, letter, size, (quantity, unit), lambda part: self._number(part, conversion, axis.order)
        )

    def _shared_axis(self, axis: AxisDescription, size: int) -> AxisPlace:
        points = self.description.axes[axis.points]
        conversion = self.description.conversion(points.conversion)
        told = points.unit if points.unit is not None else conversion.unit
        record = self.description.record(points.deposit)
        found = record.addresses(points.address, {f"{POINTS}X": size}, self.description.alignment)
        return self._placed(
            found,
            "X",
            size,
            self._looked_up(points.input, told),
            lambda part: self._number(part, conversion, points.order),
        )

    def _placed(
        self,
        found: dict[str, tuple[int, Part]],
        letter: str,
        size: int,
        what: tuple[str, str],
        number: Callable[[Part], Number],
    ) -> AxisPlace:
        """Breakpoints that stand in the image; a count that stands beside them must be as it is assumed."""
        quantity, unit = what
        address, part = _part(found, f"{POINTS}{letter}")
        if part.order == "INDEX_DECR":
            raise NotRepresentableError("the breakpoints of one of its axes fall")
        if (counted := found.get(f"{COUNT}{letter}")) is not None:
            order = "little" if number(part).order == "little" else "big"
            width = size_of(counted[1].type)
            if size >= 2 ** (8 * width):
                raise NotRepresentableError("it has more breakpoints than its count can say")
            self.counts.append(Identity(counted[0], size.to_bytes(width, order)))  # type: ignore[arg-type]
        return AxisPlace(quantity, unit, Place(address, number(part), size), None)

    def _looked_up(self, measurement: str, told: str) -> tuple[str, str]:
        """Quantity and unit of what is looked up along an axis."""
        said: Input | None = self.said.inputs.get(measurement)
        quantity = said.quantity if said is not None else quantity_of(self.description, measurement)
        if quantity is None or quantity not in QUANTITIES:
            raise NotRepresentableError(f"what {measurement} measures, along one of its axes, is not said")
        unit = said.unit if said is not None and said.unit is not None else told
        try:
            if not known_unit(unit):
                raise BadInput(f"the unit “{unit}” of {measurement} is not known")
            convert(_ONE, unit, QUANTITIES[quantity].unit)
        except BadInput as error:
            raise NotRepresentableError(error.what) from None
        return quantity, unit


def _part(found: dict[str, tuple[int, Part]], keyword: str) -> tuple[int, Part]:
    if keyword not in found:
        raise NotRepresentableError(f"its record layout has no {keyword}")
    return found[keyword]
