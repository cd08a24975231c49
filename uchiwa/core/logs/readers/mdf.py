"""ASAM MDF 3 and 4 as a Log, one raster for each channel group."""

from __future__ import annotations

from types import MappingProxyType

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, Log, Raster, Repair
from uchiwa.core.logs.readers.apart import read_apart
from uchiwa.core.logs.readers.clock import advancing
from uchiwa.core.logs.readers.mdf_content import mdf_content


def read_mdf(data: bytes, name: str) -> list[Log]:
    """Read an MDF file; times count from the earliest sample of any group.

    Raises:
        BadInput: it is damaged, or holds no channel with two samples.
    """
    content = read_apart(mdf_content, data, "MDF", name)
    usable = [group for group in content.groups if np.isfinite(group.time).sum() >= 2]
    if not usable:
        raise BadInput("the MDF file holds no recording", where=name, advice="record again: nothing was logged")
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
        raise BadInput("its times do not advance", where=name, advice="export the log again")
    return [Log(name, tuple(rasters), MappingProxyType(content.notes), tuple(repairs))]
