"""Times as loggers write them, as seconds."""

from __future__ import annotations

import re

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.naming import plain_name
from uchiwa.core.quantities.units import convert, known_unit, plain_unit
from uchiwa.core.words.sentence import N_, Sentence

DAY = 86_400.0
_FEWEST_ROWS = 8
_NAMES = frozenset(
    [
        "time",
        "timestamp",
        "elapsed",
        "t",
        "offset",
        "seconds",
        "zeit",
        "temps",
        "tiempo",
        "tempo",
        "zeitstempel",
        "laufzeit",
        "millis",
        "millisekunden",
        "sekunden",
        "clock",
        "uptime",
    ]
)
_PHRASES = (
    "elapsed time",
    "time stamp",
    "log time",
    "recording time",
    "time elapsed",
    "time of day",
    "date time",
    "datetime",
    "local time",
    "run time",
    "time since start",
)
_DATE_MARKS = re.compile(r"[-./]")
_IN_BRACKETS = re.compile(r"[\[(](\w{1,12})[\])]")
_CLOCK = re.compile(
    r"^(?:(?P<date>\d{4}-\d{1,2}-\d{1,2}|\d{1,2}[./]\d{1,2}[./]\d{2,4})[T ])?(?:(?P<h>\d{1,3}):)?(?P<m>\d{1,3}):(?P<s>\d{1,2})(?:[.,:](?P<f>\d{1,9}))?\s*(?P<half>[AaPp][Mm])?(?:Z|[+-]\d\d:?\d\d)?$"
)
_RATE = re.compile(
    r"(?P<number>\d{1,12}+(?:[.,]\d{1,12}+)?)\s{0,4}+(?P<unit>hz|khz|ms|s|us|µs|/s|samples? (?:a|per) second|sps)?\b",
    re.IGNORECASE,
)
RATE_KEYS = ("rate", "frequency", "interval", "period", "abtastrate", "sampling")


def is_time_name(name: str) -> bool:
    """Whether a channel's name says that it is the time."""
    plain = plain_name(name)
    words = plain.split()
    if plain in _NAMES or plain in _PHRASES:
        return True
    return len(words) == 2 and words[0] in ("time", "zeit", "timestamp", "elapsed", "t") and known_unit(words[1])


def is_clock(text: str) -> bool:
    """Whether a cell is a time of day or h:m:s, with or without a date."""
    return _CLOCK.match(text.strip()) is not None


def clock_seconds(text: str) -> float:
    """Seconds of a cell such as `0:01:02.5`, `23:59:59.98`, `1:02,5` (m:s) or `2026-11-23 19:40:05.1`; NaN if none.

    A date counts in whole days.
    """
    match = _CLOCK.match(text.strip())
    if match is None:
        return float("nan")
    hours = float(match["h"] or 0)
    if match["half"]:
        hours = hours % 12 + (12 if match["half"].lower() == "pm" else 0)
    fraction = float(f"0.{match['f']}") if match["f"] else 0.0
    seconds = hours * 3600 + float(match["m"]) * 60 + float(match["s"]) + fraction
    if match["date"]:
        seconds += _day(match["date"]) * DAY
    return seconds


def _day(date: str) -> float:
    parts = [int(part) for part in _DATE_MARKS.split(date)]
    year, month, day = parts if parts[0] > 31 else (parts[2], parts[1], parts[0])
    if month > 12:
        month, day = day, month
    try:
        return float(np.datetime64(f"{year if year > 99 else 2000 + year:04d}-{month:02d}-{day:02d}", "D").astype(int))
    except ValueError:
        return float("nan")


def past_midnight(seconds: FloatArray) -> FloatArray:
    """Times of day that go on after midnight: a fall of more than half a day is a new day."""
    falls = np.diff(seconds, prepend=seconds[:1]) < -DAY / 2
    return seconds + DAY * np.cumsum(falls) if falls.any() else seconds


def advancing(time: FloatArray) -> BoolArray:
    """Which rows are later than every row before them; a row without a time is not."""
    if np.isfinite(time).all() and bool((np.diff(time) > 0).all()):
        return np.ones(time.shape, dtype=np.bool_)
    highest = np.fmax.accumulate(np.where(np.isfinite(time), time, -np.inf))
    before = np.concatenate(([-np.inf], highest[:-1]))
    kept: BoolArray = np.isfinite(time) & (time > before)
    return kept


def spread(time: FloatArray) -> FloatArray | None:
    """Rows that share a coarse time stamp spread evenly until the next one; None unless most stamps stand on several rows.

    A stamp may have fewer rows than usual where the log begins or a row was lost: the first stamp's rows end where the next
    begins, and the last one's follow each other as usual.

    Args:
        time: s, as written; shape (n,).
    """
    if time.size < _FEWEST_ROWS or not np.isfinite(time).all() or (np.diff(time) < 0).any():
        return None
    first = np.concatenate(([0], np.flatnonzero(np.diff(time) > 0) + 1))
    count = np.diff(np.concatenate((first, [time.size])))
    if first.size < 2 or float(np.median(count)) < 2:
        return None
    stamps = time[first]
    grain = float(np.median(np.diff(stamps)))
    usual = float(np.median(count[1:-1])) if count.size > 2 else float(count.max())
    room = np.append(np.minimum(np.diff(stamps), grain), grain)
    places = np.arange(time.size) - np.repeat(first, count)
    step = room / np.where(np.arange(count.size) == count.size - 1, np.maximum(usual, count), count)
    start = np.zeros(count.size)
    if count[0] < usual:
        step[0] = room[0] / usual
        start[0] = room[0] - step[0] * count[0]
    even: FloatArray = stamps.repeat(count) + start.repeat(count) + step.repeat(count) * places
    return even


def seconds_of(values: FloatArray, unit: str, name: str) -> tuple[FloatArray, str]:
    """Numbers of a time column in seconds, and what was guessed if no unit was given.

    Without a unit the usual step decides: loggers record at 0.5 to 1000 Hz, so that a step of 5 or more, in whole
    numbers, is in milliseconds, and one of 2000 or more in microseconds.

    Raises:
        BadInput: the unit is not one of time.
    """
    if unit:
        if not known_unit(unit) or plain_unit(unit) in ("1", "-"):
            raise BadInput(
                Sentence("the unit “{unit}” of time is not known", unit=unit), where=name, advice=N_("write s or ms")
            )
        try:
            return convert(values, unit, "s"), ""
        except BadInput:
            raise BadInput(
                Sentence("“{unit}” is not a unit of time", unit=unit), where=name, advice=N_("write s or ms")
            ) from None
    head = values[np.isfinite(values)][:5000]
    steps = np.diff(head)
    steps = steps[steps > 0]
    if steps.size == 0:
        return values, ""
    step, whole = float(np.median(steps)), bool((head == np.round(head)).all())
    if whole and step >= 2000:
        return values * 1e-6, "the times have no unit; by their steps they are microseconds"
    if whole and step >= 5:
        return values * 1e-3, "the times have no unit; by their steps they are milliseconds"
    return values, ""


def step_from_notes(notes: dict[str, str]) -> float | None:
    """Seconds between samples, if a note says a sample rate or an interval; a bare number is Hz or, for an interval, s."""
    for key, value in notes.items():
        if not any(word in key for word in RATE_KEYS):
            continue
        match = _RATE.search(value)
        if match is None:
            continue
        number = float(match["number"].replace(",", "."))
        unit = (match["unit"] or "").lower()
        interval = "interval" in key or "period" in key
        inside = _IN_BRACKETS.search(key)
        unit = unit or (inside[1].lower() if inside else "")
        if number <= 0:
            continue
        if unit in ("ms", "s", "us", "µs"):
            return number * {"ms": 1e-3, "s": 1.0, "us": 1e-6, "µs": 1e-6}[unit]
        if interval and not unit:
            return number
        return 1.0 / (number * (1000.0 if unit == "khz" else 1.0))
    return None
