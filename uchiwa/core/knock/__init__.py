"""Knock: its events in logs, where in a table they lie, and whether they are knock or noise."""
