"""The pyramid of each channel, computed channels, own checks, arrangements of strips, and notes on logs."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE shop ADD COLUMN IF NOT EXISTS own_checks LONGTEXT NOT NULL DEFAULT '[]'",
    "CREATE TABLE IF NOT EXISTS channel_level (channel_id BIGINT NOT NULL, block INTEGER NOT NULL, blocks INTEGER NOT NULL, extremes MEDIUMBLOB NOT NULL, sums MEDIUMBLOB NOT NULL, PRIMARY KEY (channel_id, block), FOREIGN KEY (channel_id) REFERENCES log_channel (id) ON DELETE CASCADE)",
    "ALTER TABLE log_channel ADD COLUMN IF NOT EXISTS mean DOUBLE PRECISION NULL, ADD COLUMN IF NOT EXISTS levels VARCHAR(120) NULL",
    "CREATE TABLE IF NOT EXISTS computed_channel (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, name VARCHAR(40) NOT NULL, title VARCHAR(80) NOT NULL, formula VARCHAR(500) NOT NULL, unit VARCHAR(32) NOT NULL, author_id BIGINT NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE UNIQUE INDEX IF NOT EXISTS computed_channel_shop_id_name ON computed_channel (shop_id, name)",
    "CREATE TABLE IF NOT EXISTS arrangement (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, user_id BIGINT NOT NULL, name VARCHAR(60) NOT NULL, strips TEXT NOT NULL, FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS arrangement_user_id_name ON arrangement (user_id, name)",
    "CREATE TABLE IF NOT EXISTS log_note (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, log_id BIGINT NOT NULL, author_id BIGINT NOT NULL, start_s DOUBLE PRECISION NOT NULL, end_s DOUBLE PRECISION NOT NULL, text VARCHAR(1000) NOT NULL, shown BOOL NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE INDEX IF NOT EXISTS log_note_log_id_start_s ON log_note (log_id, start_s)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
