"""How many seeds a test that judges accuracy takes: a few in `make test`, all of them in `make accuracy`."""

from __future__ import annotations

import os

FULL = os.environ.get("UCHIWA_ACCURACY") == "full"


def seeds(few: int, full: int) -> int:
    """As many as this run takes."""
    return full if FULL else few
