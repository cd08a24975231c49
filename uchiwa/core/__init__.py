"""The functional core: arrays and small frozen dataclasses; no web, no database, no clock."""
