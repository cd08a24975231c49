"""What tests work out at some cost and several need: once for all workers of a run, drives for as long as they stay the same."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any

from uchiwa.core.logs.log import Log
from uchiwa.standin import simulate as simulation
from uchiwa.standin.kept_drives import keeping, kept

LASTING = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "uchiwa-tests"


def once(name: str, make: Callable[[], Any]) -> Any:
    """What `make()` gives, made by the first worker of this run that asks."""
    run = os.environ.get("PYTEST_XDIST_TESTRUNUID")
    if run is None:
        return make()
    return kept(Path(tempfile.gettempdir()) / f"uchiwa-tests-{os.getuid()}-{run}", name, make)


def keep_drives() -> None:
    """From now on a drive that was simulated before, by the same sources from the same arguments, is taken from disk."""
    simulate = simulation.simulate
    if hasattr(simulate, "__wrapped__"):
        return
    keeper = keeping(simulate, LASTING)

    @wraps(simulate)
    def simulated(*args: Any, **named: Any) -> Log:
        return keeper(*args, **named)

    simulation.simulate = simulated
