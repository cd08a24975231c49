"""Formulas: their language, their units, and the computed channels that are given by them."""
