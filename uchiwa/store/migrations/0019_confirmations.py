"""When the person of a session last proved who they are; and an operator where there was none before operators existed."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE web_session ADD COLUMN IF NOT EXISTS confirmed_at DATETIME NULL",
    """
    UPDATE user SET operator = 1
    WHERE id = (SELECT id FROM (SELECT MIN(id) AS id FROM user WHERE role = 'owner' AND disabled_at IS NULL) AS owners)
      AND NOT EXISTS (SELECT 1 FROM (SELECT id FROM user WHERE operator AND disabled_at IS NULL) AS operators)
    """,
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
