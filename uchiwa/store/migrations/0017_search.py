"""Names of logs by job, so that a search reads an index and not the logs."""

from __future__ import annotations

from typing import Any

STATEMENTS = ("CREATE INDEX IF NOT EXISTS log_file_job_id_name ON log_file (job_id, name)",)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
