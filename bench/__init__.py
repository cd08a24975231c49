"""Measurements, and the pictures of the documentation."""
