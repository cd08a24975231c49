"""Recordings: log, raster and channel; time bases; readers, writers, and what their channels are."""
