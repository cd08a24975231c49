"""Loaded once by the process from which children are forked; no threads, no connections, nothing that a fork breaks."""

from __future__ import annotations

import asammdf  # noqa: F401

import uchiwa.core.logs.readers.columnar_content
import uchiwa.core.logs.readers.mdf_content
import uchiwa.worker.import_process
import uchiwa.worker.live
import uchiwa.worker.telling  # noqa: F401
from uchiwa.worker.warm import warm_up

warm_up()
