"""Loaded once by the process from which imports are forked; no threads, no connections, nothing that a fork breaks."""

from __future__ import annotations

import asammdf  # noqa: F401

import uchiwa.core.readers.columnar_content
import uchiwa.core.readers.mdf_content
import uchiwa.work.importing  # noqa: F401
