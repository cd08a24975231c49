"""Descriptions of stand-in controllers as A2L, by the public rules of ASAP2 1.7: what a maker would give with one."""

from __future__ import annotations

from collections.abc import Iterable

from uchiwa.core.tables.image.layout import AxisPlace, Layout, Place
from uchiwa.core.tables.image.number import Number

TYPES = {
    "u8": "UBYTE", "i8": "SBYTE", "u16": "UWORD", "i16": "SWORD", "u32": "ULONG", "i32": "SLONG",
    "f32": "FLOAT32_IEEE", "f64": "FLOAT64_IEEE",
}  # fmt: skip
MEASURED = {
    "engine_speed": ("EngineSpeed", "Engine speed"),
    "manifold_pressure": ("IntakePressure", "Manifold absolute pressure"),
    "pressure_ratio": ("PressureRatio", "Pressure ratio"),
    "coolant_temperature": ("CoolantTemp", "Coolant temperature"),
    "airflow_frequency": ("AirMeterFrequency", "MAF frequency"),
    "airflow_voltage": ("AirMeterVoltage", "MAF voltage"),
    "in_gear": ("InGear", "In gear"),
}


class DescriptionWriter:
    """Collects what a module holds."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.methods: dict[tuple[object, ...], str] = {}
        self.records: dict[str, str] = {}
        self.axes: dict[int, str] = {}
        self.parts: list[str] = []
        self.measurements: set[str] = set()

    def _method(self, number: Number, unit: str, decimals: int) -> str:
        key = (number.scale, number.offset, number.rational, unit, decimals)
        if key not in self.methods:
            name = self.methods[key] = f"CM_{len(self.methods)}"
            if number.rational is not None:
                one = number.rational
                told = f"COEFFS 0 {one.b!r} {one.c!r} 0 {one.e!r} {one.f!r}"
            else:
                told = f"COEFFS 0 {1 / number.scale!r} {-number.offset / number.scale!r} 0 0 1"
            self.parts.append(
                f'/begin COMPU_METHOD {name} "" RAT_FUNC "%8.{decimals}" "{unit}"\n {told}\n/end COMPU_METHOD'
            )
        return self.methods[key]

    def _record(self, name: str, words: str) -> str:
        if name not in self.records:
            self.records[name] = words
            self.parts.append(f"/begin RECORD_LAYOUT {name}\n {words}\n/end RECORD_LAYOUT")
        return name

    def _values(self, number: Number, *, by_columns: bool = False) -> str:
        kind, way = TYPES[number.type], "COLUMN_DIR" if by_columns else "ROW_DIR"
        return self._record(f"Val_{kind}_{way}", f"FNC_VALUES 1 {kind} {way} DIRECT")

    def _measured(self, quantity: str) -> str:
        name, words = MEASURED[quantity]
        if name not in self.measurements:
            self.measurements.add(name)
            self.parts.append(f'/begin MEASUREMENT {name} "{words}" UWORD NO_COMPU_METHOD 1 0 0 65535 /end MEASUREMENT')
        return name

    def _axis(self, axis: AxisPlace) -> str:
        measured = self._measured(axis.quantity)
        if axis.place is None:
            points = axis.fixed.breakpoints.tolist() if axis.fixed is not None else []
            listed = " ".join(f"{point!r}" for point in points)
            return (
                f"/begin AXIS_DESCR FIX_AXIS {measured} {self._method(Number('u16'), axis.unit, 3)} {len(points)} 0 99999\n"
                f" /begin FIX_AXIS_PAR_LIST {listed} /end FIX_AXIS_PAR_LIST\n/end AXIS_DESCR"
            )
        place: Place = axis.place
        method = self._method(place.number, axis.unit, 3)
        if place.address not in self.axes:
            name = self.axes[place.address] = f"AX_{place.address:X}"
            kind = TYPES[place.number.type]
            record = self._record(f"Ax_{kind}", f"AXIS_PTS_X 1 {kind} INDEX_INCR DIRECT")
            self.parts.append(
                f'/begin AXIS_PTS {name} "" 0x{place.address:X} {measured} {record} 0 {method} {place.count} -99999 99999\n'
                f" {self._order(place.number)}\n/end AXIS_PTS"
            )
        name = self.axes[place.address]
        return (
            f"/begin AXIS_DESCR COM_AXIS {measured} {method} {place.count} -99999 99999\n"
            f" AXIS_PTS_REF {name}\n/end AXIS_DESCR"
        )

    @staticmethod
    def _order(number: Number) -> str:
        return f"BYTE_ORDER {'MSB_LAST' if number.order == 'little' else 'MSB_FIRST'}"

    def text(self, more: Iterable[str] = ()) -> str:
        """The whole file."""
        layout = self.layout
        for constant in layout.constants:
            number = constant.place.number
            self.parts.append(
                f'/begin CHARACTERISTIC {constant.id.upper()} "{constant.role.replace("_", " ")}" VALUE 0x{constant.place.address:X}\n'
                f" {self._values(number)} 0 {self._method(number, constant.unit, 3)} 0 99999 {self._order(number)}\n"
                "/end CHARACTERISTIC"
            )
        for table in layout.tables:
            number = table.place.number
            axes = [self._axis(axis) for axis in (table.x, table.y) if axis is not None]
            low = -99999 if table.minimum is None else table.minimum
            high = 99999 if table.maximum is None else table.maximum
            self.parts.append(
                f'/begin CHARACTERISTIC {table.id.upper()} "{table.title}" {"MAP" if len(axes) == 2 else "CURVE"}\n'
                f" 0x{table.place.address:X} {self._values(number, by_columns=table.by_columns)} 0\n"
                f" {self._method(number, table.unit, table.decimals)} {low!r} {high!r} {self._order(number)}\n"
                + "\n".join(axes)
                + "\n/end CHARACTERISTIC"
            )
        identity = layout.identities[0] if layout.identities else None
        epk = f'ADDR_EPK 0x{identity.address:X} EPK "{identity.data.decode()}"' if identity is not None else ""
        return "\n".join([
            "ASAP2_VERSION 1 71 /* written by a test */",
            f'/begin PROJECT Demo "{layout.title}"',
            f'/begin MODULE M_{layout.id.replace("-", "_")} "{layout.title}"',
            '/begin A2ML block "IF_DATA" taggedunion if_data { "ANY" block; }; /end A2ML',
            '/begin MOD_COMMON "" BYTE_ORDER MSB_FIRST ALIGNMENT_WORD 1 ALIGNMENT_LONG 1 ALIGNMENT_FLOAT32_IEEE 1 /end MOD_COMMON',
            f'/begin MOD_PAR "" {epk}',
            f'/begin MEMORY_SEGMENT Flash "" DATA FLASH INTERN 0x{layout.base:X} 0x{layout.size:X} -1 -1 -1 -1 -1',
            "/end MEMORY_SEGMENT /end MOD_PAR", *self.parts, *more, "/end MODULE", "/end PROJECT", "",
        ])  # fmt: skip


def description_of(layout: Layout) -> str:
    """The A2L file of a controller whose images have this layout."""
    return DescriptionWriter(layout).text()
