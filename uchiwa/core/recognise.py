"""From a logger's channel names and units to quantities, each with the reason."""

from __future__ import annotations

import re
from dataclasses import replace

from uchiwa.core.errors import BadInput
from uchiwa.core.log import Channel, Log, Raster
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.units import convert, known_unit


def plain_name(name: str) -> str:
    """A name without case, punctuation or doubled spaces, so that spellings of one name compare equal."""
    return " ".join(re.sub(r"[^a-z0-9λ]+", " ", name.lower()).split())


def _index() -> dict[str, tuple[str, str]]:
    """Plain name -> (quantity id, how it matches)."""
    index: dict[str, tuple[str, str]] = {}
    for quantity in QUANTITIES.values():
        for written in quantity.names:
            index.setdefault(plain_name(written), (quantity.id, f"“{written}” is a name of {quantity.title}"))
    for quantity in QUANTITIES.values():
        index[plain_name(quantity.title)] = (quantity.id, "named as it is here")
        index[plain_name(quantity.id)] = (quantity.id, "named as it is here")
    return index


_BY_NAME = _index()


def recognise_channel(channel: Channel) -> Channel:
    """The channel with its quantity, canonical unit and the reason; unchanged but for the reason if not recognised."""
    match = _BY_NAME.get(plain_name(channel.name))
    if match is None:
        return replace(channel, reason="no quantity is known by this name")
    quantity_id, reason = match
    quantity = QUANTITIES[quantity_id]
    written = channel.source_unit or quantity.unit
    if not known_unit(written):
        return replace(channel, reason=f"named like {quantity.title}, but its unit “{written}” is not known")
    try:
        values = convert(channel.values, written, quantity.unit)
    except BadInput:
        return replace(channel, reason=f"named like {quantity.title}, but “{written}” does not measure that")
    if channel.source_unit:
        reason = f"{reason}; {written} fits" if written == quantity.unit else f"{reason}; {written} → {quantity.unit}"
    else:
        reason = f"{reason}; no unit given, taken as {quantity.unit}"
    return replace(channel, quantity=quantity_id, unit=quantity.unit, values=values, reason=reason)


def recognise(log: Log) -> Log:
    """The log with quantities found. Where two channels claim one quantity the first keeps it.

    Raises:
        BadInput: no channel is an engine speed: without it nothing can be placed on a table.
    """
    taken: dict[str, str] = {}
    rasters: list[Raster] = []
    for raster in log.rasters:
        channels: list[Channel] = []
        for channel in raster.channels:
            known = recognise_channel(channel)
            if known.quantity is not None and known.quantity in taken:
                known = replace(channel, reason=f"“{taken[known.quantity]}” is already taken as {known.quantity}")
            elif known.quantity is not None:
                taken[known.quantity] = channel.name
            channels.append(known)
        rasters.append(Raster(raster.time, tuple(channels)))
    if "engine_speed" not in taken:
        names = [channel.name for raster in log.rasters for channel in raster.channels][:6]
        raise BadInput(
            f"no engine speed among its channels ({', '.join(names)} …)",
            where=log.name,
            advice="add engine speed to the logger's channels and record again",
        )
    return Log(log.name, tuple(rasters), log.notes)
