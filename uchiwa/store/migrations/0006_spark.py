"""What a person holds knock to be, notes of pulls, and which logs are a dyno's."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE round ADD COLUMN IF NOT EXISTS spark LONGTEXT NOT NULL DEFAULT '{}'",
    "ALTER TABLE log_file ADD COLUMN IF NOT EXISTS dyno BOOL NOT NULL DEFAULT 0",
    "CREATE TABLE IF NOT EXISTS knock_decision (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, round_id BIGINT NOT NULL, table_id VARCHAR(64) NOT NULL, verdict VARCHAR(8) NOT NULL, reason VARCHAR(300) NOT NULL, cells LONGTEXT NOT NULL, author_id BIGINT NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (round_id) REFERENCES round (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE INDEX IF NOT EXISTS knock_decision_job_id_table_id ON knock_decision (job_id, table_id)",
    "CREATE TABLE IF NOT EXISTS pull_note (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, log_id BIGINT NOT NULL, number INTEGER NOT NULL, note VARCHAR(300) NOT NULL, hidden BOOL NOT NULL, place DOUBLE NULL, FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS pull_note_log_id_number ON pull_note (log_id, number)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
