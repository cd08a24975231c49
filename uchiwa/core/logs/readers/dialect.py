"""How a delimited text is written: delimiter, decimal mark, and which lines are notes, header and units."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers.clock import is_clock
from uchiwa.core.quantities.states import is_absent, state_of
from uchiwa.core.quantities.units import known_unit, plain_unit
from uchiwa.core.words.sentence import N_, Sentence

MOST_COLUMNS = 4000
DELIMITERS = (",", ";", "\t", "|")
_HEAD = 262_144
_LINES = 400
_LOOK_ROWS = 40
_ROWS = 200
_MOST_NOTES = 40
# Patterns and scans over foreign text take time in proportion to its length, whatever is in it.
_POINT = re.compile(r"^[+-]?(?:\d{1,40}+(?:\.\d{0,40})?|\.\d{1,40})(?:[eE][+-]?\d{1,4})?$")
_COMMA = re.compile(r"^[+-]?\d{0,40}+,\d{1,40}(?:[eE][+-]?\d{1,4})?$")
_SEPARATORS = re.compile(r"[:=;,\t|]")
_BEFORE_NOTE, _AFTER_NOTE = "#;%/*\"' \t\r\n\f\v", "\"',;| \t\r\n\f\v"
_LONGEST_KEY, _LONGEST_NOTE = 60, 300
_OPENING, _CLOSING, _SQUARE = "[({", "])}", "[]{}"


@dataclass(frozen=True)
class Dialect:
    """How one section of a text is written.

    Attributes:
        delimiter: between fields.
        comma: whether the decimal mark is a comma.
        names, units: of the columns; the units may be empty.
        first_row: number of lines above the first row of data.
        notes: what the lines above the header say.
        rows: fields of the first rows, for a look at what they hold.
        header: the header line as it stands.
        width: number of fields of most rows.
    """

    delimiter: str
    comma: bool
    names: tuple[str, ...]
    units: tuple[str, ...]
    first_row: int
    notes: dict[str, str]
    rows: tuple[tuple[str, ...], ...]
    header: str
    width: int


def split_unit(header: str) -> tuple[str, str]:
    """A header field as (name, unit); the unit stands in brackets at its end, or is empty."""
    text = header.strip()
    at = _unit_begins(text)
    if at is None:
        return text, ""
    name, unit = text[:at].strip(), text[at + 1 : -1].strip()
    if unit.count("(") > unit.count(")"):
        unit += ")"
    elif "(" in name and ")" not in name and unit.count("(") < unit.count(")"):
        name, _, rest = name.partition("(")
        return name.strip(), f"{rest}({unit})"
    return name, unit


def _unit_begins(text: str) -> int | None:
    """Where the bracket of the unit at the end stands: the first one after a name that no square one follows."""
    if not text or text[-1] not in _CLOSING:
        return None
    last_square = max(text.rfind(sign, 0, len(text) - 1) for sign in _SQUARE)
    if last_square > 0 and text[last_square] in _OPENING:
        return last_square
    at = text.find("(", max(last_square + 1, 1), len(text) - 1)
    return at if at > 0 else None


def fields_of(line: str, delimiter: str) -> list[str]:
    """The fields of one line, without blanks around them; a line that cannot be split is one field."""
    try:
        return [field.strip() for field in next(csv.reader([line], delimiter=delimiter, skipinitialspace=True), [])]
    except csv.Error:
        return [line]


def is_number(text: str) -> bool:
    """Whether a cell is a number with a point or a comma."""
    return bool(_POINT.match(text) or _COMMA.match(text))


def _is_row(fields: list[str]) -> bool:
    """Whether a line is one of data: at least two cells, none that is a name, and a number or a time among them."""
    if len(fields) < 2:
        return False
    filled = figures = words = 0
    begins = False
    for field in fields:
        if is_number(field) or is_clock(field):
            begins |= not filled
            figures += 1
        elif is_absent(field):
            continue
        elif state_of(field) is not None:
            words += 1
        filled += 1
    return figures >= 1 and figures + words >= 0.5 * filled and (begins or figures > 2)


def _is_units(fields: list[str]) -> bool:
    filled = [field.strip("[](){} ") for field in fields if field.strip("[](){} ")]
    known = sum(
        known_unit(field) or plain_unit(field) in ("afr", "h:m:s", "hh:mm:ss", "psi(g)", "psig", "psia", "barg")
        for field in filled
    )
    return bool(filled) and known >= 0.6 * len(filled)


def _score(lines: list[str], delimiter: str) -> tuple[int, int]:
    """How many rows this delimiter gives with the commonest number of fields, and that number."""
    counts: dict[int, int] = {}
    for line in lines[-_LOOK_ROWS:]:
        fields = fields_of(line, delimiter)
        if _is_row(fields):
            counts[len(fields)] = counts.get(len(fields), 0) + 1
    if not counts:
        return 0, 0
    width = max(counts, key=lambda number: (counts[number], number))
    return counts[width], width


def delimiter_of(lines: list[str]) -> str | None:
    """The delimiter that makes the most lines rows of equal width; among equals the one with more fields.

    A comma that could as well be a decimal mark loses against another delimiter that is there.
    """
    best: tuple[tuple[int, int], str] | None = None
    for delimiter in (";", "\t", "|", ","):
        score = _score(lines, delimiter)
        if score[1] < 2:
            continue
        if (
            best is None
            or (score[0] >= best[0][0] and delimiter != "," and score[1] > best[0][1])
            or score[0] > 1.5 * best[0][0]
        ):
            best = (score, delimiter)
    return best[1] if best else None


def notes_of(lines: list[str]) -> dict[str, str]:
    """Lines such as `# key: value`, `key = value` or `"key";"value"`; the rest is dropped."""
    notes: dict[str, str] = {}
    for line in lines:
        if len(notes) >= _MOST_NOTES:
            break
        note = note_of(line)
        if note is not None:
            notes.setdefault(*note)
    return notes


def note_of(line: str) -> tuple[str, str] | None:
    """A line as (key, value), if it is one of that kind."""
    text = line.lstrip(_BEFORE_NOTE)
    found = _SEPARATORS.search(text)
    if found is None:
        return None
    key = text[: found.start()].strip(" \"'#\t")
    value = text[found.end() :].lstrip().rstrip(_AFTER_NOTE)
    if not key or not value or len(key) > _LONGEST_KEY or len(value) > _LONGEST_NOTE:
        return None
    return key.lower(), value


def dialect_of(data: bytes, where: str) -> Dialect:
    """Find out how a section of UTF-8 text is written.

    Raises:
        BadInput: it has no rows, no columns, or no header.
    """
    head = data[:_HEAD].decode("utf-8", "replace")
    lines = head.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if len(data) > _HEAD:
        lines = lines[:-1]
    lines = lines[:_LINES]
    filled = [line for line in lines if line.strip()]
    delimiter = delimiter_of(filled)
    if delimiter is None:
        raise _refusal(filled, where)
    split = [fields_of(line, delimiter) if line.strip() else [] for line in lines]
    rows = [number for number, fields in enumerate(split) if _is_row(fields)]
    usual = _score(filled, delimiter)[1]
    start = next((number for number in rows if abs(len(split[number]) - usual) <= 1), rows[0])
    above = [number for number in range(start) if lines[number].strip()]
    if not above or max(len(split[above[-1]]), 1) < 2:
        raise BadInput(
            N_("it has no header with channel names"),
            where=where,
            advice=N_("export the log again with channel names on top"),
        )
    at = above[-1]
    units_row: list[str] = []
    if (
        len(above) > 1
        and _is_units(split[at])
        and len(split[above[-2]]) >= 2
        and len(split[above[-2]]) >= len(split[at]) - 1
    ):
        units_row, at = split[at], above[-2]
    if len(split[at]) > MOST_COLUMNS:
        raise BadInput(
            Sentence("it has {count} columns, and a log may have {most}", count=len(split[at]), most=MOST_COLUMNS),
            where=where,
            advice=N_("export fewer channels"),
        )
    named = [split_unit(field) for field in split[at]]
    units = [
        unit or (units_row[number].strip("[](){} ") if number < len(units_row) else "")
        for number, (_, unit) in enumerate(named)
    ]
    samples = tuple(tuple(split[number]) for number in rows[:_ROWS])
    comma = _decimal_comma(samples)
    return Dialect(
        delimiter, comma, tuple(name.lstrip("#").strip() if number == 0 else name for number, (name, _) in enumerate(named)),
        tuple(units), start, notes_of([lines[number] for number in above if number < at]), samples, lines[at], usual,
    )  # fmt: skip


def _decimal_comma(rows: tuple[tuple[str, ...], ...]) -> bool:
    commas = sum(bool(_COMMA.match(field)) for row in rows for field in row)
    points = sum("." in field and bool(_POINT.match(field)) for row in rows for field in row)
    return commas > points


def _refusal(filled: list[str], where: str) -> BadInput:
    """What is missing in a text without rows."""
    if len(filled) == 0:
        return BadInput(
            N_("no header line was found"), where=where, advice=N_("export the log again with channel names on top")
        )
    wide = [line for line in filled if any(len(fields_of(line, delimiter)) >= 2 for delimiter in DELIMITERS)]
    if len(wide) == 1 and wide[0] == filled[-1]:
        return BadInput(N_("it has a header and no rows"), where=where, advice=N_("record again: nothing was logged"))
    if len(wide) >= 3 and len(wide) >= 0.8 * len(filled):
        return BadInput(
            N_("there is not one number below its header"), where=where, advice=N_("export the log as numbers")
        )
    return BadInput(
        N_("its first lines are not columns of a log"),
        where=where,
        advice=N_("export it as text with one column per channel, separated by comma, semicolon or tab"),
    )
