"""Uchiwa: remote engine calibration, round by round."""

__version__ = "0.1.0"
