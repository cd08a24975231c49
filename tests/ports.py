"""Ports for servers of tests that run side by side: each worker has a hundred of its own."""

from __future__ import annotations

import os

_APART = 100


def own(first: int) -> int:
    """A port of this worker's, by the one that the first worker has."""
    return first + _APART * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
