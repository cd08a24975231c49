"""What may become of an uploaded file."""

from __future__ import annotations

RECEIVING, STORED, IMPORTING, READY, REFUSED = "receiving", "stored", "importing", "ready", "refused"
RECORDING = "recording"
"""Of a live session that is still going on."""
