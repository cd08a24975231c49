"""Record layouts of an A2L file: how the parts of a curve or a map follow one another in memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from uchiwa.core.tables.a2l.conversion import NotRepresentableError
from uchiwa.core.tables.image.number import NumberType

TYPES: dict[str, NumberType] = {
    "UBYTE": "u8", "SBYTE": "i8", "UWORD": "u16", "SWORD": "i16", "ULONG": "u32", "SLONG": "i32",
    "FLOAT32_IEEE": "f32", "FLOAT64_IEEE": "f64",
}  # fmt: skip
_SIZES = {
    "UBYTE": 1, "SBYTE": 1, "BYTE": 1, "UWORD": 2, "SWORD": 2, "WORD": 2, "ULONG": 4, "SLONG": 4, "LONG": 4,
    "A_UINT64": 8, "A_INT64": 8, "FLOAT16_IEEE": 2, "FLOAT32_IEEE": 4, "FLOAT64_IEEE": 8,
}  # fmt: skip
_ALIGNED_BY = {
    "UBYTE": "BYTE", "SBYTE": "BYTE", "BYTE": "BYTE", "UWORD": "WORD", "SWORD": "WORD", "WORD": "WORD",
    "ULONG": "LONG", "SLONG": "LONG", "LONG": "LONG", "A_UINT64": "INT64", "A_INT64": "INT64",
    "FLOAT16_IEEE": "FLOAT16_IEEE", "FLOAT32_IEEE": "FLOAT32_IEEE", "FLOAT64_IEEE": "FLOAT64_IEEE",
}  # fmt: skip
NATURAL = {
    "BYTE": 1, "WORD": 2, "LONG": 4, "INT64": 8, "FLOAT16_IEEE": 2, "FLOAT32_IEEE": 4, "FLOAT64_IEEE": 4,
}  # fmt: skip
"""Borders that numbers begin at where neither record layout nor module say others; the standard's own defaults."""
VALUES, COUNT, POINTS = "FNC_VALUES", "NO_AXIS_PTS_", "AXIS_PTS_"
_RESCALED = ("AXIS_RESCALE_", "NO_RESCALE_")
_TWO_WORDS = ("SRC_ADDR_", "RIP_ADDR_", "SHIFT_OP_", "OFFSET_", "DIST_OP_", "IDENTIFICATION", "RESERVED", *_RESCALED)


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a record.

    Attributes:
        keyword: what it is: `FNC_VALUES`, `AXIS_PTS_X`, `NO_AXIS_PTS_X`, …
        position: that orders the parts.
        type: of its numbers, in the standard's words.
        order: `ROW_DIR` or `COLUMN_DIR` of values, `INDEX_INCR` or `INDEX_DECR` of breakpoints.
        addressing: `DIRECT`, or by pointers.
    """

    keyword: str
    position: int
    type: str
    order: str = ""
    addressing: str = "DIRECT"


@dataclass(frozen=True)
class RecordLayout:
    """A RECORD_LAYOUT.

    Attributes:
        name: by which it is referred to.
        parts: in the order in which they stand in memory.
        alignment: borders by kind of number, where they are not the module's.
        fixed_counts: numbers of breakpoints by axis letter that the layout itself says.
    """

    name: str
    parts: tuple[Part, ...]
    alignment: Mapping[str, int]
    fixed_counts: Mapping[str, int]

    @classmethod
    def read(cls, words: Sequence[str]) -> RecordLayout:
        """From the words of its block.

        Raises:
            NotRepresentableError: a part of it is cut off.
        """
        parts, alignment, counts = [], {}, {}
        at = 1
        try:
            while at < len(words):
                keyword = words[at]
                if keyword.startswith("ALIGNMENT_"):
                    alignment[keyword.removeprefix("ALIGNMENT_")] = int(words[at + 1], 0)
                    at += 2
                elif keyword.startswith("FIX_NO_AXIS_PTS_"):
                    counts[keyword[-1]] = int(words[at + 1], 0)
                    at += 2
                elif keyword == VALUES or keyword.startswith(POINTS):
                    parts.append(Part(keyword, int(words[at + 1], 0), words[at + 2], words[at + 3], words[at + 4]))
                    at += 5
                elif keyword.startswith((COUNT, *_TWO_WORDS)):
                    parts.append(Part(keyword, int(words[at + 1], 0), words[at + 2]))
                    at += 3
                else:
                    at += 1
        except (IndexError, ValueError):
            raise NotRepresentableError(f"its record layout {words[0] if words else ''} is faulty") from None
        return cls(words[0] if words else "", tuple(sorted(parts, key=lambda part: part.position)), alignment, counts)

    def addresses(
        self, address: int, sizes: Mapping[str, int], module: Mapping[str, int]
    ) -> dict[str, tuple[int, Part]]:
        """Where each part begins.

        Args:
            address: of the record.
            sizes: how many numbers a part has, by its keyword; 1 for those that are not named.
            module: the module's alignment.

        Raises:
            NotRepresentableError: a part is of a kind that takes an unknown room, or is reached through pointers.
        """
        found: dict[str, tuple[int, Part]] = {}
        borders = {**NATURAL, **module, **self.alignment}
        for part in self.parts:
            if part.keyword.startswith(_RESCALED):
                raise NotRepresentableError("its axes are rescaled")
            if part.addressing != "DIRECT":
                raise NotRepresentableError("its values are reached through pointers")
            if part.type not in _SIZES:
                raise NotRepresentableError(f"numbers of the type {part.type} are not known")
            border = max(1, borders.get(_ALIGNED_BY[part.type], 1))
            address = -(-address // border) * border
            found[part.keyword] = (address, part)
            address += _SIZES[part.type] * sizes.get(part.keyword, 1)
        return found


def size_of(type_: str) -> int:
    """Bytes of a number."""
    return _SIZES[type_]


def number_type(part: Part) -> NumberType:
    """The type of a part's numbers.

    Raises:
        NotRepresentableError: a layout has no such type.
    """
    if part.type not in TYPES:
        raise NotRepresentableError(f"numbers of the type {part.type} cannot be held exactly")
    return TYPES[part.type]
