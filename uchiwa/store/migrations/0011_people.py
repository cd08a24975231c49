"""Roles, invitations, second factors, devices, the audit log, notes among tuners, and links that expire."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS remind_days INTEGER NOT NULL DEFAULT 7",
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS link_days INTEGER NOT NULL DEFAULT 180",
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS quota_bytes BIGINT NULL",
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS mail_words LONGTEXT NOT NULL DEFAULT '{}'",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS role VARCHAR(8) NOT NULL DEFAULT 'owner'",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS operator BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS disabled_at DATETIME(6) NULL",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS second_factor VARCHAR(255) NOT NULL DEFAULT ''",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS second_step BIGINT NULL",
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS told_by_mail VARCHAR(8) NOT NULL DEFAULT 'each'",
    "ALTER TABLE web_session ADD COLUMN IF NOT EXISTS half BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE web_session ADD COLUMN IF NOT EXISTS device VARCHAR(80) NOT NULL DEFAULT ''",
    "CREATE TABLE IF NOT EXISTS recovery_code (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, user_id BIGINT NOT NULL, "
    "code_hash VARCHAR(64) NOT NULL, used_at DATETIME(6), FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS recovery_code_user_id_code_hash ON recovery_code (user_id, code_hash)",
    "CREATE TABLE IF NOT EXISTS one_time_link (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, kind VARCHAR(12) NOT NULL, "
    "nonce VARCHAR(64) NOT NULL, token_hash VARCHAR(64) NOT NULL, shop_id BIGINT, user_id BIGINT, email VARCHAR(190) NOT NULL, "
    "role VARCHAR(8) NOT NULL, made_at DATETIME(6) NOT NULL, expires_at DATETIME(6) NOT NULL, used_at DATETIME(6), "
    "FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS one_time_link_token_hash ON one_time_link (token_hash)",
    "CREATE INDEX IF NOT EXISTS one_time_link_shop_id_kind ON one_time_link (shop_id, kind)",
    "CREATE TABLE IF NOT EXISTS audit_entry (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT, user_id BIGINT, "
    "kind VARCHAR(24) NOT NULL, who VARCHAR(120) NOT NULL, subject VARCHAR(190) NOT NULL, at DATETIME(6) NOT NULL, "
    "FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE SET NULL)",
    "CREATE INDEX IF NOT EXISTS audit_entry_shop_id_at ON audit_entry (shop_id, at)",
    "CREATE INDEX IF NOT EXISTS audit_entry_at ON audit_entry (at)",
    "ALTER TABLE customer ADD COLUMN IF NOT EXISTS email VARCHAR(190) NOT NULL DEFAULT ''",
    "ALTER TABLE customer ADD COLUMN IF NOT EXISTS reminders_off BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE job ADD COLUMN IF NOT EXISTS tuner_id BIGINT NULL REFERENCES user (id) ON DELETE SET NULL",
    "CREATE INDEX IF NOT EXISTS job_shop_id_closed_moved_at ON job (shop_id, closed, moved_at)",
    "ALTER TABLE customer_link ADD COLUMN IF NOT EXISTS expires_at DATETIME(6) NULL",
    "ALTER TABLE customer_link ADD COLUMN IF NOT EXISTS mail_key VARCHAR(64) NOT NULL DEFAULT ''",
    "CREATE TABLE IF NOT EXISTS job_note (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, "
    "author_id BIGINT NOT NULL, text VARCHAR(2000) NOT NULL, at DATETIME(6) NOT NULL, once VARCHAR(64), "
    "FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE INDEX IF NOT EXISTS job_note_job_id_at ON job_note (job_id, at)",
    "CREATE UNIQUE INDEX IF NOT EXISTS job_note_job_id_once ON job_note (job_id, once)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
