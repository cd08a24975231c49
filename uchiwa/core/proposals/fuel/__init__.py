"""Airflow tables corrected by their measured fuel error."""
