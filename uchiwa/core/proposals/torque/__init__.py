"""Spark put in by torque."""
