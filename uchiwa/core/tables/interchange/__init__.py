"""Calibrations as files of open formats."""
