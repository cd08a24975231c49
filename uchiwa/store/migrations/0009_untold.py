"""Since when it has not been told what a round's logs show."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE round ADD COLUMN IF NOT EXISTS untold_since DATETIME(6) NULL",
    "CREATE INDEX IF NOT EXISTS round_untold_since ON round (untold_since)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
