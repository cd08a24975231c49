"""Clamp of an airflow signal that must not tell of boost."""
