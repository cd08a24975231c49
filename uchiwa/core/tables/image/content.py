"""Calibrations out of images and into them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.core.tables.image.layout import AxisPlace, Layout, Place, TablePlace
from uchiwa.core.tables.image.layout_json import fixed_axis
from uchiwa.core.tables.image.memory import Memory
from uchiwa.core.tables.image.number import Number
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen


@dataclass(frozen=True)
class Rounding:
    """A value that the image holds only nearly.

    Attributes:
        table: id of the table or constant.
        i, j: the cell.
        wanted, kept: value of the calibration and value that the image gives back.
    """

    table: str
    i: int
    j: int
    wanted: float
    kept: float


@dataclass(frozen=True, eq=False)
class WrittenImage:
    """A calibration written into an image.

    Attributes:
        memory: the image.
        changed: ranges of bytes (from, up to) that differ from the image it was written into, checksums included.
        roundings: values that the image holds only nearly, and of which the calibration's own digits would show it.
    """

    memory: Memory
    changed: tuple[tuple[int, int], ...]
    roundings: tuple[Rounding, ...]


def verify(memory: Memory, layout: Layout, name: str = "image") -> None:
    """Whether an image is what a layout says, as a flasher asks before it takes one.

    Raises:
        BadInput: another size, another identity, or a checksum that is wrong; says which.
    """
    if memory.start != layout.base or memory.end != layout.base + layout.size or len(memory.segments) != 1:
        raise BadInput(
            f"the image has {memory.size} bytes from 0x{memory.start:X} and the layout {layout.size} from 0x{layout.base:X}",
            where=name,
            advice="choose the image that this layout describes",
        )
    for identity in layout.identities:
        found = memory.read(identity.address, len(identity.data))
        if found != identity.data:
            raise BadInput(
                f"the identity at 0x{identity.address:X} is {_shown(found)}, not “{identity.words}”",
                where=name,
                advice="this image is for another controller or another software",
            )
    for number, checksum in enumerate(layout.checksums):
        data = b"".join(memory.read(start, stop - start) for start, stop in checksum.ranges)
        stored = memory.read(checksum.address, checksum.size)
        right = checksum.written(data)
        if stored != right:
            raise BadInput(
                f"checksum {number + 1} ({checksum.kind} at 0x{checksum.address:X}) is 0x{stored.hex().upper()}, "
                f"and its bytes give 0x{right.hex().upper()}",
                where=name,
                advice="the image is damaged or was changed without its checksums",
            )


def _shown(data: bytes) -> str:
    text = data.decode("ascii", "replace")
    return f"“{text}”" if text.isascii() and text.isprintable() else data.hex(" ")


def _values(memory: Memory, place: Place, decimals: int, where: str) -> FloatArray:
    """Numbers of a place, in the fewest digits that give the same raw numbers back."""
    values = place.number.decode(memory.read(place.address, place.length, where))
    if not np.isfinite(values).all():
        at = int(np.flatnonzero(~np.isfinite(values))[0])
        raise BadInput(
            f"the number at 0x{place.address + at * place.number.size:X} is not finite",
            where=where,
            advice="check type and byte order in the layout",
        )
    short = np.round(values, decimals)
    same = place.number.raw(short) == place.number.raw(values)
    return np.where(same, short, values)


def _axis(memory: Memory, axis: AxisPlace, where: str) -> Axis:
    if axis.fixed is not None:
        return axis.fixed
    if axis.place is None:
        raise BadInput("an axis has neither breakpoints nor a place", where=where)
    return fixed_axis(axis, _values(memory, axis.place, _digits(axis.place.number), where), where)


def _digits(number: Number) -> int:
    """Digits after the point that a number's steps can show."""
    step = number.step
    return 6 if step == 0 else int(min(max(np.ceil(-np.log10(step) + 0.3), 0), 9))


def _by_rows(place: TablePlace, values: FloatArray) -> FloatArray:
    if place.y is None:
        return values
    if place.by_columns:
        return values.reshape(place.x.size, place.y.size).T
    return values.reshape(place.y.size, place.x.size)


def read_calibration(memory: Memory, layout: Layout, name: str = "image") -> Calibration:
    """The calibration that an image holds.

    Raises:
        BadInput: the image is not what the layout says (`verify`), or holds an axis that does not rise.
    """
    verify(memory, layout, name)
    constants = tuple(
        Constant(
            constant.id,
            constant.role,
            float(_values(memory, constant.place, _digits(constant.place.number), f"constant {constant.id}")[0]),
            constant.unit,
        )
        for constant in layout.constants
    )
    tables = []
    for table in layout.tables:
        x = _axis(memory, table.x, f"table {table.id}, x")
        y = _axis(memory, table.y, f"table {table.id}, y") if table.y is not None else None
        values = _by_rows(table, _values(memory, table.place, table.decimals, f"table {table.id}"))
        tables.append(
            Table(
                table.id,
                table.title,
                table.role,
                table.unit,
                x,
                y,
                frozen(values),
                table.minimum,
                table.maximum,
                table.decimals,
            )
        )
    return Calibration(layout.calibration_id, layout.calibration_title, constants, tuple(tables))


@dataclass(frozen=True, eq=False)
class _Piece:
    """Numbers to be written: in what order, where, and the cells of which table they are."""

    words: str
    place: Place
    values: FloatArray
    table: Table | None = None
    by_columns: bool = False

    def cell(self, at: int) -> tuple[int, int]:
        """Column and row of the number at a position."""
        rows, columns = self.table.shape if self.table is not None else (1, self.values.size)
        return (at // rows, at % rows) if self.by_columns else (at % columns, at // columns)

    def where(self, at: int) -> str:
        """The number at a position, in words."""
        return self.words if self.table is None else f"{self.words}, {cell_name(self.table, *self.cell(at))}"


def _pieces(layout: Layout, calibration: Calibration) -> Iterator[_Piece]:
    """Everything that is to be written.

    Raises:
        BadInput: the calibration lacks something, or has it in another shape.
    """
    constants = {one.id: one.value for one in calibration.constants}
    for constant in layout.constants:
        if constant.id not in constants:
            raise BadInput("the calibration has no such constant", where=constant.id, advice="use its own layout")
        yield _Piece(constant.id, constant.place, np.array([constants[constant.id]]))
    tables = {one.id: one for one in calibration.tables}
    for place in layout.tables:
        table = tables.get(place.id)
        if table is None:
            raise BadInput("the calibration has no such table", where=place.id, advice="use its own layout")
        for name, axis_place, axis in (("x", place.x, table.x), ("y", place.y, table.y)):
            yield from _axis_piece(f"{place.title}, {name}", axis_place, axis)
        by_columns = place.by_columns and place.y is not None
        grid = table.grid.T if by_columns else table.grid
        yield _Piece(place.title, place.place, grid.ravel(), table, by_columns)


def _axis_piece(words: str, place: AxisPlace | None, axis: Axis | None) -> Iterator[_Piece]:
    if place is None and axis is None:
        return
    if place is None or axis is None:
        raise BadInput("the layout has another number of axes", where=words, advice="use its own layout")
    if place.size != axis.size:
        raise BadInput(
            f"the table has {axis.size} breakpoints and the image room for {place.size}",
            where=words,
            advice="go back to as many breakpoints as before",
        )
    if place.fixed is not None:
        if not np.array_equal(place.fixed.breakpoints, axis.breakpoints):
            raise BadInput(
                "the controller's breakpoints are fixed and the table's are others",
                where=words,
                advice="go back to the old breakpoints",
            )
    elif place.place is not None:
        yield _Piece(words, place.place, axis.breakpoints)


def write_calibration(memory: Memory, layout: Layout, calibration: Calibration, name: str = "image") -> WrittenImage:
    """An image with a calibration in it: only bytes that must change, and the checksums over them.

    A number whose present bytes already stand for the wanted value keeps them, so that an image that is read and
    written back is the same byte for byte.

    Raises:
        BadInput: the image is not what the layout says, the calibration lacks something, a value is beyond its type
            (names the nearest that it can hold), breakpoints would not rise any more, or two tables that share an axis
            have different breakpoints.
    """
    verify(memory, layout, name)
    changes: list[tuple[int, bytes]] = []
    roundings: list[Rounding] = []
    shared: dict[tuple[int, int], FloatArray] = {}
    for piece in _pieces(layout, calibration):
        place, number = piece.place, piece.place.number
        _must_fit(piece)
        before = shared.setdefault((place.address, place.length), piece.values)
        if not np.array_equal(number.raw(before), number.raw(piece.values)):
            raise BadInput(
                "another table shares this axis in the image and has other breakpoints",
                where=piece.words,
                advice="change the axis in both",
            )
        kept = number.stored(piece.values)
        if piece.table is None and place.count > 1 and (np.diff(kept) <= 0).any():
            raise BadInput(
                "two breakpoints become the same in the image",
                where=piece.words,
                advice=f"keep {number.step:g} between them",
            )
        old = number.raw(number.decode(memory.read(place.address, place.length, piece.words)))
        encoded = number.encode(piece.values)
        for at in np.flatnonzero(old != number.raw(piece.values)):
            start = int(at) * number.size
            changes.append((place.address + start, encoded[start : start + number.size]))
        roundings += _roundings(piece, kept)
    after = memory.with_bytes(changes)
    for checksum in layout.checksums:
        data = b"".join(after.read(start, stop - start) for start, stop in checksum.ranges)
        after = after.with_bytes([(checksum.address, checksum.written(data))])
    return WrittenImage(after, memory.changed(after), tuple(roundings))


def _must_fit(piece: _Piece) -> None:
    fits = piece.place.number.fits(piece.values)
    if fits.all():
        return
    at = int(np.flatnonzero(~fits)[0])
    low, high = piece.place.number.ends
    value = float(piece.values[at])
    raise BadInput(
        f"{value:g} cannot be kept as {piece.place.number.type}",
        where=piece.where(at),
        advice=f"the nearest that can is {min(max(value, low), high):g}",
    )


def _roundings(piece: _Piece, kept: FloatArray) -> list[Rounding]:
    if piece.table is None:
        return []
    decimals, found = piece.table.decimals, []
    for at in np.flatnonzero(np.round(kept, decimals) != np.round(piece.values, decimals)):
        i, j = piece.cell(int(at))
        found.append(Rounding(piece.table.id, i, j, float(piece.values[at]), float(kept[at])))
    return found
