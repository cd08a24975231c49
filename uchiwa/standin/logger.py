"""The stand-in logger: a Log as clean delimited text."""

from __future__ import annotations

from uchiwa.core.log import Channel, Log


def _column(channel: Channel) -> list[str]:
    values = channel.values
    whole = bool((values == values.round()).all())
    return [f"{value:.0f}" for value in values] if whole else [f"{value:g}" for value in values.tolist()]


def write_delimited(log: Log) -> str:
    """Comma-separated text: notes as `# key: value`, a header of names and units, one row a sample."""
    raster = log.rasters[0]
    header = ["Time [s]", *(f"{channel.name} [{channel.unit}]" for channel in raster.channels)]
    columns = [[f"{time:.3f}" for time in raster.time], *(_column(channel) for channel in raster.channels)]
    notes = [f"# {key}: {value}" for key, value in log.notes.items()]
    rows = [",".join(row) for row in zip(*columns, strict=True)]
    return "\n".join([*notes, ",".join(header), *rows]) + "\n"
