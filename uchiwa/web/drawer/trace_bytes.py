"""Traces on their way to the browser: a short description, then numbers as they are in memory."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np

from uchiwa.core.viewing.window import Line

MEDIA_TYPE = "application/octet-stream"


def packed(description: dict[str, Any], lines: list[tuple[Line, float]]) -> bytes:
    """A description and lines as bytes: length of the description (u32, little endian), the description as JSON padded
    to a multiple of 4, then for each line its times and its values as 32-bit floats.

    Args:
        description: says how many points each line has.
        lines: each with the time to count from, s, so that 32 bits are exact enough.
    """
    head = json.dumps(description, ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode()
    head += b" " * (-len(head) % 4)
    parts = [struct.pack("<I", len(head)), head]
    for line, origin in lines:
        parts += [(line.time - origin).astype("<f4").tobytes(), line.values.astype("<f4").tobytes()]
    return b"".join(parts)


def number(value: float | None) -> float | None:
    """A number as JSON can carry it: None for a gap."""
    return None if value is None or not np.isfinite(value) else float(value)
