"""Mails that are to be sent, and those that were."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "CREATE TABLE IF NOT EXISTS mail (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, `key` VARCHAR(64) NOT NULL, "
    "once VARCHAR(120) NOT NULL, shop_id BIGINT, job_id BIGINT, user_id BIGINT, link_id BIGINT, recipient VARCHAR(190) NOT NULL, "
    "kind VARCHAR(24) NOT NULL, details LONGTEXT NOT NULL, state VARCHAR(8) NOT NULL, made_at DATETIME(6) NOT NULL, "
    "due_at DATETIME(6) NOT NULL, sent_at DATETIME(6), attempts INTEGER NOT NULL, problem VARCHAR(300) NOT NULL, "
    "owner VARCHAR(36) NOT NULL, lease_until DATETIME(6), "
    "FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, "
    "FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE, "
    "FOREIGN KEY (link_id) REFERENCES one_time_link (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS mail_key ON mail (`key`)",
    "CREATE UNIQUE INDEX IF NOT EXISTS mail_once ON mail (once)",
    "CREATE INDEX IF NOT EXISTS mail_state_due_at ON mail (state, due_at)",
    "CREATE INDEX IF NOT EXISTS mail_job_id_made_at ON mail (job_id, made_at)",
    "CREATE INDEX IF NOT EXISTS mail_user_id_state ON mail (user_id, state)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
