"""What a file with several time bases holds, before it is a Log."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.logs.log import FloatArray


@dataclass(frozen=True, eq=False)
class Group:
    """Channels with one time base, each as (name, unit, values)."""

    time: FloatArray
    channels: list[tuple[str, str, FloatArray]]


@dataclass(frozen=True, eq=False)
class Content:
    """What a file holds and says of itself."""

    groups: list[Group]
    notes: dict[str, str]
