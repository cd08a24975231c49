"""Passkeys, with which people sign in without a password."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "CREATE TABLE IF NOT EXISTS passkey (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, user_id BIGINT NOT NULL, "
    "credential_hash VARCHAR(64) NOT NULL, credential LONGBLOB NOT NULL, public_key LONGBLOB NOT NULL, "
    "sign_count BIGINT NOT NULL, name VARCHAR(80) NOT NULL, made_at DATETIME(6) NOT NULL, used_at DATETIME(6), "
    "FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS passkey_credential_hash ON passkey (credential_hash)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
