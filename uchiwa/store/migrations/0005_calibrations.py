"""Pins by table, images, answers to concerns, and what becomes of a returned revision."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "ALTER TABLE user ADD COLUMN IF NOT EXISTS measures VARCHAR(8) NOT NULL DEFAULT 'metric', ADD COLUMN IF NOT EXISTS mixture VARCHAR(8) NOT NULL DEFAULT 'lambda'",
    "ALTER TABLE draft ADD COLUMN IF NOT EXISTS pins LONGTEXT NOT NULL DEFAULT '{}'",
    "ALTER TABLE event ADD COLUMN IF NOT EXISTS version INTEGER NULL, ADD COLUMN IF NOT EXISTS abandoned BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE revision ADD COLUMN IF NOT EXISTS final BOOL NOT NULL DEFAULT 0, ADD COLUMN IF NOT EXISTS report LONGTEXT NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS brief LONGTEXT NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS downloaded_at DATETIME NULL, ADD COLUMN IF NOT EXISTS flashed_at DATETIME NULL, ADD COLUMN IF NOT EXISTS withdrawn_at DATETIME NULL, ADD COLUMN IF NOT EXISTS withdrawn_why VARCHAR(500) NOT NULL DEFAULT ''",
    "CREATE TABLE IF NOT EXISTS controller_image (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, name VARCHAR(200) NOT NULL, format VARCHAR(8) NOT NULL, layout LONGTEXT NOT NULL, data LONGBLOB NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS controller_image_job_id ON controller_image (job_id)",
    "CREATE TABLE IF NOT EXISTS revision_image (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, revision_id BIGINT NOT NULL, format VARCHAR(8) NOT NULL, content_hash VARCHAR(64) NOT NULL, layout LONGTEXT NOT NULL, data LONGBLOB NOT NULL, FOREIGN KEY (revision_id) REFERENCES revision (id) ON DELETE CASCADE)",
    "CREATE UNIQUE INDEX IF NOT EXISTS revision_image_revision_id ON revision_image (revision_id)",
    "CREATE TABLE IF NOT EXISTS answer (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, round_id BIGINT NOT NULL, concern VARCHAR(24) NOT NULL, rule VARCHAR(32) NOT NULL, sentence VARCHAR(500) NOT NULL, reason VARCHAR(500) NOT NULL, author_id BIGINT NOT NULL, at DATETIME NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (round_id) REFERENCES round (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id))",
    "ALTER TABLE calibration MODIFY document LONGTEXT COMPRESSED NOT NULL",
    "CREATE INDEX IF NOT EXISTS answer_job_id_concern ON answer (job_id, concern)",
)


def up(_migrator: Any, db: Any) -> None:
    """Change the tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
