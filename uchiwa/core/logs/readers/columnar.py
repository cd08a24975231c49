"""Parquet and Arrow files as a Log; names may carry units in brackets, as in text."""

from __future__ import annotations

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, Log, Raster, Repair
from uchiwa.core.logs.readers.apart import read_apart
from uchiwa.core.logs.readers.clock import advancing, is_time_name, past_midnight, seconds_of
from uchiwa.core.logs.readers.columnar_content import columnar_content
from uchiwa.core.logs.readers.delimited import hold
from uchiwa.core.logs.readers.dialect import split_unit
from uchiwa.core.logs.readers.sniff import Kind
from uchiwa.core.words.sentence import N_


def read_columnar(data: bytes, kind: Kind, name: str) -> list[Log]:
    """Read a Parquet or Arrow file.

    Raises:
        BadInput: it is damaged, has no time, or fewer than two rows.
    """
    title = "Parquet" if kind is Kind.PARQUET else "Arrow"
    columns = read_apart(columnar_content, data, title, name)
    named = [(*split_unit(written), values, sort) for written, values, sort in columns]
    at = next((number for number, (one, _, _, sort) in enumerate(named) if is_time_name(one) and sort != "none"), None)
    if at is None:
        at = next((number for number, (_, _, _, sort) in enumerate(named) if sort == "seconds"), None)
    if at is None:
        raise BadInput(
            N_("no time column was found"), where=name, advice=N_("name the column of times “Time” with its unit")
        )
    _, unit, times, sort = named[at]
    guess = ""
    if sort == "seconds":
        time = past_midnight(times)
    else:
        time, guess = seconds_of(times, unit, name)
    repairs = [Repair("guess", 0, guess)] if guess else []
    kept = advancing(time)
    if int(kept.sum()) < 2:
        raise BadInput(N_("its times do not advance"), where=name, advice=N_("check the time column and export again"))
    if not kept.all():
        count = int((~kept).sum())
        repairs.append(Repair("time", count, f"{count} rows whose time is missing or does not advance were left out"))
    seconds = time[kept]
    channels = tuple(
        Channel(one, unit, hold(seconds, np.where(np.isfinite(values), values, np.nan)[kept]), source_unit=unit)
        for number, (one, unit, values, kind_) in enumerate(named)
        if number != at and kind_ == "number"
    )
    return [Log(name, (Raster(seconds - seconds[0], channels),), repairs=tuple(repairs))]
