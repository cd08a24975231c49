"""Gatherings that a shop keeps under a name."""

from __future__ import annotations

from typing import Any

STATEMENTS = ("ALTER TABLE shop ADD COLUMN IF NOT EXISTS own_bins LONGTEXT NOT NULL DEFAULT '[]'",)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
