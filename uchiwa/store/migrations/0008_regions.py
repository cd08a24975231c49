"""What a round's logs show by region: idle, cruise, full load."""

from __future__ import annotations

from typing import Any

STATEMENTS = ("ALTER TABLE round ADD COLUMN IF NOT EXISTS regions LONGTEXT NOT NULL DEFAULT '[]'",)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
