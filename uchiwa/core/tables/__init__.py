"""Axis, table and calibration; editing, interchange and images."""
