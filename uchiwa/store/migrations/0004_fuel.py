"""Temporary setups, and what a round's logs showed beside the error."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE shop ADD COLUMN own_setups LONGTEXT NOT NULL DEFAULT '[]'",
    "ALTER TABLE job ADD COLUMN setup LONGTEXT NULL",
    "ALTER TABLE round ADD COLUMN trim_percent DOUBLE PRECISION NULL, ADD COLUMN driven_s DOUBLE PRECISION NULL",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
