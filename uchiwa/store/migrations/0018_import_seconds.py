"""How long the reading of a log took, so that those who send what takes long wait behind others."""

from __future__ import annotations

from typing import Any

STATEMENTS = ("ALTER TABLE log_file ADD COLUMN IF NOT EXISTS import_seconds DOUBLE NULL",)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
