"""Warm-up factor over coolant."""
