"""A layout: where in an image each number of a calibration stands."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.image.checksum import Checksum
from uchiwa.core.tables.image.number import Number
from uchiwa.core.tables.table import Axis


@dataclass(frozen=True)
class Place:
    """Numbers that stand one after the other.

    Attributes:
        address: of the first.
        number: form of each.
        count: how many.
    """

    address: int
    number: Number
    count: int = 1

    @property
    def length(self) -> int:
        """Bytes of all."""
        return self.count * self.number.size

    @property
    def end(self) -> int:
        """The address after the last byte."""
        return self.address + self.length


@dataclass(frozen=True, eq=False)
class AxisPlace:
    """An axis: in the image, or fixed.

    Attributes:
        quantity, unit: of its breakpoints.
        place: where they stand, if the image has them.
        fixed: the breakpoints, if it has not.
    """

    quantity: str
    unit: str
    place: Place | None
    fixed: Axis | None

    @property
    def size(self) -> int:
        """Number of breakpoints."""
        if self.fixed is not None:
            return self.fixed.size
        return self.place.count if self.place is not None else 0


@dataclass(frozen=True, eq=False)
class TablePlace:
    """A table or curve of the image.

    Attributes:
        id, title, role, unit, minimum, maximum, decimals: of the table.
        x, y: its axes.
        place: of all values.
        by_columns: whether values of one column stand together, rather than those of one row.
    """

    id: str
    title: str
    role: str
    unit: str
    x: AxisPlace
    y: AxisPlace | None
    place: Place
    minimum: float | None
    maximum: float | None
    decimals: int
    by_columns: bool = False


@dataclass(frozen=True)
class ConstantPlace:
    """A single number of the image."""

    id: str
    role: str
    unit: str
    place: Place


@dataclass(frozen=True)
class Identity:
    """Bytes by which an image is known to be for this controller and software."""

    address: int
    data: bytes

    @property
    def words(self) -> str:
        """As text where it is one."""
        try:
            text = self.data.decode("ascii")
        except UnicodeDecodeError:
            return self.data.hex(" ")
        return text if text.isprintable() else self.data.hex(" ")


@dataclass(frozen=True, eq=False)
class Layout:
    """Everything that an image holds, and where.

    Attributes:
        id, title: of the layout.
        calibration_id, calibration_title: of the calibrations read with it.
        base, size: address and number of bytes of the whole image.
        identities: bytes that must be as given.
        constants, tables, checksums: what it holds; checksums are computed in this order.
    """

    id: str
    title: str
    calibration_id: str
    calibration_title: str
    base: int
    size: int
    identities: tuple[Identity, ...]
    constants: tuple[ConstantPlace, ...]
    tables: tuple[TablePlace, ...]
    checksums: tuple[Checksum, ...]

    def places(self) -> Iterator[tuple[str, int, int, bool]]:
        """Everything that takes room: words, from, up to, and whether several may share it (axes may)."""
        for number, identity in enumerate(self.identities):
            yield f"identity[{number}]", identity.address, identity.address + len(identity.data), False
        for constant in self.constants:
            yield f"constant {constant.id}", constant.place.address, constant.place.end, False
        for table in self.tables:
            yield f"table {table.id}", table.place.address, table.place.end, False
            for name, axis in (("x", table.x), ("y", table.y)):
                if axis is not None and axis.place is not None:
                    yield f"table {table.id}, {name}", axis.place.address, axis.place.end, True
        for number, checksum in enumerate(self.checksums):
            yield f"checksum[{number}]", checksum.address, checksum.address + checksum.size, False

    def check(self) -> None:
        """Raises BadInput if something runs past the image, overlaps something else, or a checksum covers itself."""
        self._check_places()
        for number in range(len(self.checksums)):
            self._check_checksum(number)

    def _check_places(self) -> None:
        """Nothing may lie outside the image, nor on anything else unless both are the same shared axis."""
        end = self.base + self.size
        widest: tuple[int, int, str, bool] | None = None
        for start, stop, words, shared in sorted((a, b, name, both) for name, a, b, both in self.places()):
            if start < self.base or stop > end:
                raise BadInput(
                    f"0x{start:X} … 0x{stop - 1:X} lies outside the image, 0x{self.base:X} … 0x{end - 1:X}",
                    where=words,
                    advice="correct its address, type or number",
                )
            same = widest is not None and shared and widest[3] and (start, stop) == widest[:2]
            if widest is not None and start < widest[1] and not same:
                raise BadInput(
                    f"overlaps {widest[2]} at 0x{start:X}", where=words, advice="correct one of the addresses"
                )
            if widest is None or stop > widest[1]:
                widest = (start, stop, words, shared)

    def _check_checksum(self, number: int) -> None:
        """A checksum's ranges lie within the image and hold neither itself nor one that is computed later."""
        checksum, where = self.checksums[number], f"checksum[{number}]"
        end = self.base + self.size
        for start, stop in checksum.ranges:
            if start < self.base or stop > end or stop <= start:
                raise BadInput(
                    f"the range 0x{start:X} … 0x{stop:X} is not within the image", where=where, advice="correct it"
                )
            for other in self.checksums[number:]:
                if start < other.address + other.size and other.address < stop:
                    own = "itself" if other is checksum else "a later checksum"
                    raise BadInput(
                        f"the range 0x{start:X} … 0x{stop:X} covers {own}", where=where, advice="leave it out"
                    )
