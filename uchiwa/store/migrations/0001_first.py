"""The first schema."""

from __future__ import annotations

from typing import Any

STATEMENTS = (
    "CREATE TABLE IF NOT EXISTS shop (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, name VARCHAR(120) NOT NULL)",
    "CREATE TABLE IF NOT EXISTS user (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, email VARCHAR(190) NOT NULL, name VARCHAR(120) NOT NULL, password_hash VARCHAR(255) NOT NULL, theme VARCHAR(8) NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS user_shop_id ON user (shop_id)",
    "CREATE UNIQUE INDEX IF NOT EXISTS user_email ON user (email)",
    "CREATE TABLE IF NOT EXISTS sign_in_attempt (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, who VARCHAR(64) NOT NULL, at DATETIME NOT NULL)",
    "CREATE INDEX IF NOT EXISTS sign_in_attempt_who_at ON sign_in_attempt (who, at)",
    "CREATE TABLE IF NOT EXISTS customer (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, name VARCHAR(120) NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS customer_shop_id ON customer (shop_id)",
    "CREATE TABLE IF NOT EXISTS car (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, customer_id BIGINT NOT NULL, title VARCHAR(120) NOT NULL, details VARCHAR(200) NOT NULL, FOREIGN KEY (customer_id) REFERENCES customer (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS car_customer_id ON car (customer_id)",
    "CREATE TABLE IF NOT EXISTS job (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, car_id BIGINT NOT NULL, closed BOOL NOT NULL, moved_at DATETIME NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE, FOREIGN KEY (car_id) REFERENCES car (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS job_shop_id ON job (shop_id)",
    "CREATE INDEX IF NOT EXISTS job_car_id ON job (car_id)",
    "CREATE TABLE IF NOT EXISTS round (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, number INTEGER NOT NULL, policy TEXT NOT NULL, opened_at DATETIME NOT NULL, returned_at DATETIME, error_percent DOUBLE PRECISION, cells INTEGER, cells_within INTEGER, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS round_job_id ON round (job_id)",
    "CREATE UNIQUE INDEX IF NOT EXISTS round_job_id_number ON round (job_id, number)",
    "CREATE TABLE IF NOT EXISTS log_file (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, round_id BIGINT NOT NULL, name VARCHAR(200) NOT NULL, size BIGINT NOT NULL, content_hash VARCHAR(64) NOT NULL, state VARCHAR(12) NOT NULL, accepted BOOL NOT NULL, message VARCHAR(500) NOT NULL, duration_s DOUBLE PRECISION, samples INTEGER, notes TEXT NOT NULL, uploaded_at DATETIME NOT NULL, lease_until DATETIME, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (round_id) REFERENCES round (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS log_file_job_id ON log_file (job_id)",
    "CREATE INDEX IF NOT EXISTS log_file_round_id ON log_file (round_id)",
    "CREATE INDEX IF NOT EXISTS log_file_job_id_content_hash ON log_file (job_id, content_hash)",
    "CREATE INDEX IF NOT EXISTS log_file_state ON log_file (state)",
    "CREATE TABLE IF NOT EXISTS log_raw_chunk (log_id BIGINT NOT NULL, position INTEGER NOT NULL, data MEDIUMBLOB NOT NULL, PRIMARY KEY (log_id, position), FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS log_raw_chunk_log_id ON log_raw_chunk (log_id)",
    "CREATE TABLE IF NOT EXISTS log_channel (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, log_id BIGINT NOT NULL, raster INTEGER NOT NULL, position INTEGER NOT NULL, name VARCHAR(190) NOT NULL, unit VARCHAR(32) NOT NULL, source_unit VARCHAR(32) NOT NULL, quantity VARCHAR(64), reason VARCHAR(255) NOT NULL, samples INTEGER NOT NULL, minimum DOUBLE PRECISION, maximum DOUBLE PRECISION, FOREIGN KEY (log_id) REFERENCES log_file (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS log_channel_log_id ON log_channel (log_id)",
    "CREATE INDEX IF NOT EXISTS log_channel_log_id_quantity ON log_channel (log_id, quantity)",
    "CREATE TABLE IF NOT EXISTS channel_chunk (channel_id BIGINT NOT NULL, position INTEGER NOT NULL, samples INTEGER NOT NULL, minimum DOUBLE PRECISION, maximum DOUBLE PRECISION, data MEDIUMBLOB NOT NULL, PRIMARY KEY (channel_id, position), FOREIGN KEY (channel_id) REFERENCES log_channel (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS channel_chunk_channel_id ON channel_chunk (channel_id)",
    "CREATE TABLE IF NOT EXISTS calibration (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, shop_id BIGINT NOT NULL, content_hash VARCHAR(64) NOT NULL, document LONGTEXT NOT NULL, FOREIGN KEY (shop_id) REFERENCES shop (id) ON DELETE CASCADE)",
    "CREATE INDEX IF NOT EXISTS calibration_shop_id ON calibration (shop_id)",
    "CREATE UNIQUE INDEX IF NOT EXISTS calibration_shop_id_content_hash ON calibration (shop_id, content_hash)",
    "CREATE TABLE IF NOT EXISTS revision (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, number INTEGER NOT NULL, parent_id BIGINT, round_id BIGINT, calibration_id BIGINT NOT NULL, author_id BIGINT NOT NULL, notes TEXT NOT NULL, frozen_at DATETIME NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (parent_id) REFERENCES revision (id) ON DELETE CASCADE, FOREIGN KEY (round_id) REFERENCES round (id) ON DELETE CASCADE, FOREIGN KEY (calibration_id) REFERENCES calibration (id), FOREIGN KEY (author_id) REFERENCES user (id))",
    "CREATE INDEX IF NOT EXISTS revision_job_id ON revision (job_id)",
    "CREATE INDEX IF NOT EXISTS revision_parent_id ON revision (parent_id)",
    "CREATE INDEX IF NOT EXISTS revision_round_id ON revision (round_id)",
    "CREATE INDEX IF NOT EXISTS revision_calibration_id ON revision (calibration_id)",
    "CREATE INDEX IF NOT EXISTS revision_author_id ON revision (author_id)",
    "CREATE UNIQUE INDEX IF NOT EXISTS revision_job_id_number ON revision (job_id, number)",
    "CREATE TABLE IF NOT EXISTS draft (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, base_id BIGINT NOT NULL, calibration_id BIGINT NOT NULL, version INTEGER NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (base_id) REFERENCES revision (id), FOREIGN KEY (calibration_id) REFERENCES calibration (id))",
    "CREATE UNIQUE INDEX IF NOT EXISTS draft_job_id ON draft (job_id)",
    "CREATE INDEX IF NOT EXISTS draft_base_id ON draft (base_id)",
    "CREATE INDEX IF NOT EXISTS draft_calibration_id ON draft (calibration_id)",
    "CREATE TABLE IF NOT EXISTS event (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, job_id BIGINT NOT NULL, round_id BIGINT, kind VARCHAR(24) NOT NULL, author_id BIGINT, at DATETIME NOT NULL, sentence VARCHAR(500) NOT NULL, inputs LONGTEXT NOT NULL, before_id BIGINT, after_id BIGINT, put_back BOOL NOT NULL, FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE, FOREIGN KEY (round_id) REFERENCES round (id) ON DELETE CASCADE, FOREIGN KEY (author_id) REFERENCES user (id), FOREIGN KEY (before_id) REFERENCES calibration (id), FOREIGN KEY (after_id) REFERENCES calibration (id))",
    "CREATE INDEX IF NOT EXISTS event_job_id ON event (job_id)",
    "CREATE INDEX IF NOT EXISTS event_round_id ON event (round_id)",
    "CREATE INDEX IF NOT EXISTS event_author_id ON event (author_id)",
    "CREATE INDEX IF NOT EXISTS event_before_id ON event (before_id)",
    "CREATE INDEX IF NOT EXISTS event_after_id ON event (after_id)",
    "CREATE INDEX IF NOT EXISTS event_job_id_at ON event (job_id, at)",
    "CREATE TABLE IF NOT EXISTS worker_beat (id BIGINT AUTO_INCREMENT NOT NULL PRIMARY KEY, name VARCHAR(64) NOT NULL, at DATETIME NOT NULL)",
    "CREATE UNIQUE INDEX IF NOT EXISTS worker_beat_name ON worker_beat (name)",
)


def up(_migrator: Any, db: Any) -> None:
    """Make all tables."""
    for statement in STATEMENTS:
        db.execute_sql(statement)
