"""Durable background work."""
