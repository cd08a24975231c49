"""Limits above which a knock sensor counts."""
