"""Why a log was refused, in parts, so that it can be said in the customer's language."""

from __future__ import annotations

from typing import Any

STATEMENTS = ("ALTER TABLE log_file ADD COLUMN IF NOT EXISTS message_words LONGTEXT",)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
