"""What a round's logs show by region; how a channel was read, and what fits next best."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE round ADD COLUMN IF NOT EXISTS regions LONGTEXT NOT NULL DEFAULT '[]'",
    "ALTER TABLE log_channel ADD COLUMN IF NOT EXISTS read_as VARCHAR(40) NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS second VARCHAR(40) NOT NULL DEFAULT ''",
    "ALTER TABLE channel_memory MODIFY COLUMN unit VARCHAR(40) NOT NULL",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
