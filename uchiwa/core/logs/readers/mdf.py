"""ASAM MDF 3 and 4, and recordings of a bus, as a Log: one raster for each group of channels."""

from __future__ import annotations

from functools import partial
from types import MappingProxyType

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, Log, Raster, Repair
from uchiwa.core.logs.readers.apart import read_apart
from uchiwa.core.logs.readers.bus.decode import BusDescription, bus_content
from uchiwa.core.logs.readers.bus.frames import BusKind
from uchiwa.core.logs.readers.clock import advancing
from uchiwa.core.logs.readers.groups import Content
from uchiwa.core.logs.readers.mdf_content import mdf_content
from uchiwa.core.words.sentence import N_, Sentence


def read_mdf(data: bytes, name: str, buses: tuple[BusDescription, ...] = ()) -> list[Log]:
    """Read an MDF file; times count from the earliest sample of any group.

    Args:
        buses: descriptions (DBC) of which one may say what the frames of a bus mean, if it logs one.

    Raises:
        BadInput: it is damaged, or holds no channel with two samples.
    """
    return [_log(read_apart(partial(mdf_content, buses), data, "MDF", name), name, N_("the MDF file"))]


def read_bus(data: bytes, kind: BusKind, name: str, buses: tuple[BusDescription, ...]) -> list[Log]:
    """Read a recording of a bus.

    Raises:
        BadInput: it is damaged, or nothing says what its frames mean.
    """
    return [_log(read_apart(partial(bus_content, buses, kind), data, kind.value.upper(), name), name, N_("the file"))]


def _log(content: Content, name: str, what: str) -> Log:
    usable = [group for group in content.groups if np.isfinite(group.time).sum() >= 2]
    if not usable:
        raise BadInput(
            Sentence("{what} holds no recording", what=what), where=name, advice=N_("record again: nothing was logged")
        )
    start = min(float(np.nanmin(group.time)) for group in usable)
    repairs: list[Repair] = []
    rasters: list[Raster] = []
    seen: dict[str, int] = {}
    for group in usable:
        kept = advancing(group.time)
        if int(kept.sum()) < 2:
            continue
        if not kept.all():
            count = int((~kept).sum())
            repairs.append(
                Repair("time", count, f"{count} rows whose time is missing or does not advance were left out")
            )
        channels: list[Channel] = []
        for title, unit, values in group.channels:
            seen[title] = seen.get(title, 0) + 1
            unique = title if seen[title] == 1 else f"{title} ({seen[title]})"
            clean = np.where(np.isfinite(values[kept]), values[kept], np.nan)
            channels.append(Channel(unique, unit, clean, source_unit=unit))
        rasters.append(Raster(group.time[kept] - start, tuple(channels)))
    if not rasters:
        raise BadInput(N_("its times do not advance"), where=name, advice=N_("export the log again"))
    return Log(name, tuple(rasters), MappingProxyType(content.notes), tuple(repairs))
