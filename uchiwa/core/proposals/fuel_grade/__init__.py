"""Spark for a worse fuel."""
