"""Loaded once by the process from which children are forked; no threads, no connections, nothing that a fork breaks."""

from __future__ import annotations

import asammdf  # noqa: F401

import uchiwa.core.logs.readers.columnar_content
import uchiwa.core.logs.readers.mdf_content
import uchiwa.work.importing
import uchiwa.work.telling  # noqa: F401
from uchiwa.work.warm import warm_up

warm_up()
