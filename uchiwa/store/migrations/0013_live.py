"""Live sessions, their events and overlays."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "CREATE TABLE IF NOT EXISTS live_session (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, log_id BIGINT NOT NULL, "
    "job_id BIGINT NOT NULL, running_id BIGINT, key_hash VARCHAR(64) NOT NULL, opening LONGTEXT NOT NULL, "
    "began_at DATETIME(6) NOT NULL, heard_ms BIGINT NOT NULL, ended_at DATETIME(6), ended_why VARCHAR(12) NOT NULL, "
    "batches INTEGER NOT NULL, `rows` INTEGER NOT NULL, bytes BIGINT NOT NULL, limits LONGTEXT NOT NULL, "
    "limits_version INTEGER NOT NULL, analysis LONGTEXT NOT NULL, analysed INTEGER NOT NULL, analyst VARCHAR(36) NOT NULL, "
    "analyst_until_ms BIGINT NOT NULL, wanted BOOL NOT NULL, allowed BOOL NOT NULL, overlay INTEGER NOT NULL, "
    "acknowledged INTEGER NOT NULL, decided VARCHAR(12) NOT NULL, "
    "FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, "
    "FOREIGN KEY (running_id) REFERENCES job (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS live_session_log_id ON live_session (log_id)",
    "CREATE UNIQUE INDEX IF NOT EXISTS live_session_running_id ON live_session (running_id)",
    "CREATE INDEX IF NOT EXISTS live_session_job_id_began_at ON live_session (job_id, began_at)",
    "CREATE INDEX IF NOT EXISTS live_session_ended_at ON live_session (ended_at)",
    "CREATE TABLE IF NOT EXISTS live_event (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, session_id BIGINT NOT NULL, "
    "at_ms BIGINT NOT NULL, seconds DOUBLE PRECISION NOT NULL, kind VARCHAR(16) NOT NULL, who VARCHAR(8) NOT NULL, "
    "text VARCHAR(500) NOT NULL, FOREIGN KEY (session_id) REFERENCES live_session (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS live_event_session_id_id ON live_event (session_id, id)",
    "CREATE TABLE IF NOT EXISTS live_overlay (session_id BIGINT NOT NULL, number INTEGER NOT NULL, base INTEGER NOT NULL, table_id VARCHAR(120) NOT NULL, "
    "factors LONGTEXT NOT NULL, made_ms BIGINT NOT NULL, acknowledged_ms BIGINT, PRIMARY KEY (session_id, number), "
    "FOREIGN KEY (session_id) REFERENCES live_session (id) ON DELETE CASCADE)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
