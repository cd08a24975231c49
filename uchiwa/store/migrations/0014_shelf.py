"""The shelf, tokens of programs, and the language of a customer."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "CREATE TABLE IF NOT EXISTS shelf_entry (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, "
    "kind VARCHAR(12) NOT NULL, name VARCHAR(120) NOT NULL, words VARCHAR(1000) NOT NULL, tags VARCHAR(200) NOT NULL, "
    "file_name VARCHAR(200) NOT NULL, content LONGBLOB NOT NULL, content_hash VARCHAR(64) NOT NULL, "
    "origin VARCHAR(300) NOT NULL, job_id BIGINT, revision INTEGER, outcome LONGTEXT NOT NULL, author_id BIGINT NOT NULL, "
    "at DATETIME(6) NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, "
    "FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE SET NULL, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE UNIQUE INDEX IF NOT EXISTS shelf_entry_shop_id_kind_name ON shelf_entry (shop_id, kind, name)",
    "CREATE TABLE IF NOT EXISTS api_token (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, user_id BIGINT NOT NULL, "
    "name VARCHAR(80) NOT NULL, token_hash VARCHAR(64) NOT NULL, scopes VARCHAR(120) NOT NULL, made_at DATETIME(6) NOT NULL, "
    "seen_at DATETIME(6), expires_at DATETIME(6), revoked_at DATETIME(6), "
    "FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS api_token_token_hash ON api_token (token_hash)",
    "CREATE INDEX IF NOT EXISTS api_token_user_id_name ON api_token (user_id, name)",
    "ALTER TABLE revision ADD COLUMN IF NOT EXISTS start_map BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE finding ADD COLUMN IF NOT EXISTS words LONGTEXT",
    "ALTER TABLE customer ADD COLUMN IF NOT EXISTS language VARCHAR(8) NOT NULL DEFAULT ''",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
