"""What every model has."""

from __future__ import annotations

from peewee import (
    BigAutoField,
    Model,
)

from uchiwa.store.database import database


class Base(Model):
    """Every model, on the one database."""

    id = BigAutoField()

    class Meta:
        """Peewee's settings."""

        database = database
        legacy_table_names = False
