"""Car files, briefs, customer links, messages, findings, and imports in several steps."""

from __future__ import annotations

from typing import Any

_LOG = (
    "ADD COLUMN source_id BIGINT NULL", "ADD COLUMN codec VARCHAR(8) NOT NULL DEFAULT ''",
    "ADD COLUMN stage VARCHAR(24) NOT NULL DEFAULT ''", "ADD COLUMN percent INTEGER NOT NULL DEFAULT 0",
    "ADD COLUMN decided BOOL NOT NULL DEFAULT 0", "ADD COLUMN baseline BOOL NOT NULL DEFAULT 0",
    "ADD COLUMN by_customer BOOL NOT NULL DEFAULT 0", "ADD COLUMN repairs LONGTEXT NOT NULL DEFAULT '[]'",
    "ADD COLUMN drives LONGTEXT NOT NULL DEFAULT '[]'", "ADD COLUMN verdicts LONGTEXT NOT NULL DEFAULT '[]'",
    "ADD COLUMN dwell LONGTEXT NOT NULL DEFAULT ''", "ADD COLUMN header VARCHAR(64) NOT NULL DEFAULT ''",
    "ADD COLUMN upload_key VARCHAR(64) NOT NULL DEFAULT ''", "ADD COLUMN owner VARCHAR(36) NOT NULL DEFAULT ''",
    "ADD FOREIGN KEY (source_id) REFERENCES log_file (id) ON DELETE CASCADE",
    "ADD INDEX log_file_job_id_upload_key (job_id, upload_key)",
)  # fmt: skip

STATEMENTS = (
    "ALTER TABLE shop ADD COLUMN thresholds LONGTEXT NOT NULL DEFAULT '{}'",
    "ALTER TABLE car ADD COLUMN file LONGTEXT NOT NULL DEFAULT '{}'",
    "ALTER TABLE round ADD COLUMN brief LONGTEXT NOT NULL DEFAULT ''",
    f"ALTER TABLE log_file {', '.join(_LOG)}",
    "ALTER TABLE log_channel MODIFY COLUMN reason VARCHAR(400) NOT NULL, ADD COLUMN confidence DOUBLE PRECISION NOT NULL DEFAULT 0, ADD COLUMN doubt VARCHAR(300) NOT NULL DEFAULT ''",
    "CREATE TABLE finding (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, log_id BIGINT NOT NULL, rule VARCHAR(32) NOT NULL, severity VARCHAR(12) NOT NULL, customer VARCHAR(600) NOT NULL, tuner VARCHAR(600) NOT NULL, at TEXT NOT NULL, FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE)",
    "CREATE TABLE channel_memory (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, car_id BIGINT NULL, header VARCHAR(64) NOT NULL, channel VARCHAR(255) NOT NULL, quantity VARCHAR(64) NULL, unit VARCHAR(32) NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (car_id) REFERENCES car (id) ON DELETE CASCADE)",
    "CREATE INDEX channel_memory_shop_id_header ON channel_memory (shop_id, header)",
    "CREATE TABLE brief_pattern (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, name VARCHAR(80) NOT NULL, document LONGTEXT NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX brief_pattern_shop_id_name ON brief_pattern (shop_id, name)",
    "CREATE TABLE customer_link (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, token_hash VARCHAR(64) NOT NULL, made_at DATETIME NOT NULL, revoked_at DATETIME NULL, seen_at DATETIME NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX customer_link_token_hash ON customer_link (token_hash)",
    "CREATE TABLE message (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, author_id BIGINT NULL, text VARCHAR(2000) NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE INDEX message_job_id_at ON message (job_id, at)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
