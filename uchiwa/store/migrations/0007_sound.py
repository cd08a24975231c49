"""Unique keys where twins could arise, with the twins merged; sessions, counted attempts, tries of imports."""

from __future__ import annotations

from typing import Any

_FIRST = "(SELECT MIN(id) AS id, job_id, content_hash FROM log_file WHERE content_hash <> '' AND source_id IS NULL GROUP BY job_id, content_hash) first ON first.job_id = log.job_id AND first.content_hash = log.content_hash"

LOGS = (
    "ALTER TABLE log_file ADD COLUMN IF NOT EXISTS reading INTEGER NOT NULL DEFAULT 0, ADD COLUMN IF NOT EXISTS attempts INTEGER NOT NULL DEFAULT 0, MODIFY COLUMN content_hash VARCHAR(64) NULL, MODIFY COLUMN upload_key VARCHAR(64) NULL",
    # Of the same file sent twice the first stays; what people said of the others goes to it.
    f"UPDATE log_note note JOIN log_file log ON log.id = note.log_id JOIN {_FIRST} SET note.log_id = first.id WHERE log.source_id IS NULL AND log.id > first.id",  # noqa: S608
    f"UPDATE IGNORE pull_note note JOIN log_file log ON log.id = note.log_id JOIN {_FIRST} SET note.log_id = first.id WHERE log.source_id IS NULL AND log.id > first.id",  # noqa: S608
    f"DELETE log FROM log_file log JOIN {_FIRST} WHERE log.source_id IS NULL AND log.id > first.id",
    "DELETE log FROM log_file log JOIN (SELECT MAX(id) AS id, round_id, upload_key FROM log_file WHERE upload_key <> '' GROUP BY round_id, upload_key) last ON last.round_id = log.round_id AND last.upload_key = log.upload_key WHERE log.id < last.id AND log.state = 'receiving'",
    "UPDATE log_file SET content_hash = NULL WHERE content_hash = '' OR source_id IS NOT NULL",
    "UPDATE log_file SET upload_key = NULL WHERE upload_key = '' OR state <> 'receiving'",
    "CREATE UNIQUE INDEX IF NOT EXISTS log_file_job_id_content ON log_file (job_id, content_hash)",
    "DROP INDEX IF EXISTS log_file_job_id_content_hash ON log_file",
    "CREATE UNIQUE INDEX IF NOT EXISTS log_file_round_id_upload_key ON log_file (round_id, upload_key)",
    "DROP INDEX IF EXISTS log_file_job_id_upload_key ON log_file",
)

CUSTOMERS = (
    "UPDATE car JOIN customer twin ON twin.id = car.customer_id JOIN (SELECT MIN(id) AS id, shop_id, name FROM customer GROUP BY shop_id, name) first ON first.shop_id = twin.shop_id AND first.name = twin.name SET car.customer_id = first.id WHERE twin.id > first.id",
    "DELETE twin FROM customer twin JOIN (SELECT MIN(id) AS id, shop_id, name FROM customer GROUP BY shop_id, name) first ON first.shop_id = twin.shop_id AND first.name = twin.name WHERE twin.id > first.id",
    "CREATE UNIQUE INDEX IF NOT EXISTS customer_shop_id_name ON customer (shop_id, name)",
)

MEMORY = (
    "ALTER TABLE channel_memory ADD COLUMN IF NOT EXISTS scope VARCHAR(72) NOT NULL DEFAULT ''",
    "UPDATE channel_memory SET scope = IF(car_id IS NULL, CONCAT('header:', header), CONCAT('car:', car_id))",
    "DELETE twin FROM channel_memory twin JOIN (SELECT MAX(id) AS id, shop_id, scope, channel FROM channel_memory GROUP BY shop_id, scope, channel) last ON last.shop_id = twin.shop_id AND last.scope = twin.scope AND last.channel = twin.channel WHERE twin.id < last.id",
    "CREATE UNIQUE INDEX IF NOT EXISTS channel_memory_shop_id_scope_channel ON channel_memory (shop_id, scope, channel)",
)

ANSWERS = (
    "DELETE twin FROM answer twin JOIN (SELECT MAX(id) AS id, job_id, concern FROM answer GROUP BY job_id, concern) last ON last.job_id = twin.job_id AND last.concern = twin.concern WHERE twin.id < last.id",
    "CREATE UNIQUE INDEX IF NOT EXISTS answer_job_id_once ON answer (job_id, concern)",
    "DROP INDEX IF EXISTS answer_job_id_concern ON answer",
)

FORMS_SENT_ONCE = (
    "ALTER TABLE job ADD COLUMN IF NOT EXISTS once VARCHAR(64) NULL",
    "CREATE UNIQUE INDEX IF NOT EXISTS job_shop_id_once ON job (shop_id, once)",
    "ALTER TABLE message ADD COLUMN IF NOT EXISTS once VARCHAR(64) NULL",
    "CREATE UNIQUE INDEX IF NOT EXISTS message_job_id_once ON message (job_id, once)",
)

TABLES = (
    "CREATE TABLE IF NOT EXISTS web_session (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, token_hash VARCHAR(64) NOT NULL, user_id BIGINT NOT NULL, made_at DATETIME NOT NULL, seen_at DATETIME NOT NULL, FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS web_session_token_hash ON web_session (token_hash)",
    "CREATE TABLE IF NOT EXISTS flash (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, session_hash VARCHAR(64) NOT NULL, text VARCHAR(2000) NOT NULL, bad BOOL NOT NULL, at DATETIME NOT NULL)",
    "CREATE INDEX IF NOT EXISTS flash_session_hash ON flash (session_hash)",
    "CREATE INDEX IF NOT EXISTS flash_at ON flash (at)",
    "CREATE TABLE IF NOT EXISTS attempt (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, mark VARCHAR(64) NOT NULL, since DATETIME NOT NULL, count INTEGER NOT NULL)",
    "CREATE UNIQUE INDEX IF NOT EXISTS attempt_mark ON attempt (mark)",
    "CREATE INDEX IF NOT EXISTS attempt_since ON attempt (since)",
    "CREATE TABLE IF NOT EXISTS estimate (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, mark VARCHAR(64) NOT NULL, document TEXT NOT NULL, at DATETIME NOT NULL)",
    "CREATE UNIQUE INDEX IF NOT EXISTS estimate_mark ON estimate (mark)",
    "CREATE INDEX IF NOT EXISTS estimate_at ON estimate (at)",
    "CREATE TABLE IF NOT EXISTS demo_part (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, name VARCHAR(64) NOT NULL, job_id BIGINT NULL, done BOOL NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE SET NULL)",
    "CREATE UNIQUE INDEX IF NOT EXISTS demo_part_name ON demo_part (name)",
    "DROP TABLE IF EXISTS sign_in_attempt",
)

STATEMENTS = (*LOGS, *CUSTOMERS, *MEMORY, *ANSWERS, *FORMS_SENT_ONCE, *TABLES)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
