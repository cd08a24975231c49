"""Loaded once by the process that web processes, worker and imports are forked from."""

from __future__ import annotations

import gc
import signal
import warnings
from importlib import import_module

from uchiwa.forking import call_oneself

gc.disable()  # what is loaded stays: looking through it again and again costs a tenth of the time
# It is stopped with those it has forked; a Ctrl-C while it loads is for the one that started it.
signal.signal(signal.SIGINT, signal.SIG_IGN)
call_oneself("uchiwa loaded")

for module in ("uvloop", "uchiwa.web.app", "uchiwa.worker.worker", "uchiwa.worker.preloaded"):
    import_module(module)

# Said by polars of rows that are too long; the reader finds them out itself, and tells the person whose log it is.
warnings.filterwarnings("ignore", message="CSV malformed", category=UserWarning)

gc.freeze()  # so that no collector touches, and thereby copies, what is shared
gc.enable()
