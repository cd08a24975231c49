"""Spark taken out where knock is real."""
