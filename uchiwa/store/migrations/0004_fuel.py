"""Temporary setups, and what a round's logs showed beside the error."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS own_setups LONGTEXT NOT NULL DEFAULT '[]'",
    "ALTER TABLE job ADD COLUMN IF NOT EXISTS setup LONGTEXT NULL",
    "ALTER TABLE round ADD COLUMN IF NOT EXISTS trim_percent DOUBLE PRECISION NULL, ADD COLUMN IF NOT EXISTS driven_s DOUBLE PRECISION NULL",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
