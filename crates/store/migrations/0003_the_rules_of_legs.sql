-- What becomes of a second publisher, and what is sent while a session holds.
ALTER TABLE channels
    ADD COLUMN takeover VARCHAR(12) NOT NULL DEFAULT 'refuse',
    ADD COLUMN slate VARCHAR(12) NOT NULL DEFAULT 'none';

-- 0 is the highest; keys of lower rank are backups.
ALTER TABLE stream_keys ADD COLUMN rank_number TINYINT UNSIGNED NOT NULL DEFAULT 0;

-- The limits sheet is a JSON object whose shape the service knows.
ALTER TABLE destinations
    ADD COLUMN batch_ms SMALLINT UNSIGNED NOT NULL DEFAULT 20,
    ADD COLUMN limits_sheet TEXT NULL,
    ADD COLUMN audio_pick VARCHAR(64) NULL,
    ADD COLUMN audio_otherwise VARCHAR(8) NOT NULL DEFAULT 'first';

ALTER TABLE channel_destinations
    ADD COLUMN delay_ms INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN start_after_ms INT UNSIGNED NOT NULL DEFAULT 0;

ALTER TABLE sessions ADD COLUMN is_rehearsal BOOLEAN NOT NULL DEFAULT FALSE;

-- What is known of a show at its end: a JSON object whose shape the service knows.
CREATE TABLE show_reports (
    session_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    report MEDIUMTEXT NOT NULL,
    FOREIGN KEY (session_id) REFERENCES sessions (id) ON DELETE CASCADE
);

ALTER TABLE legs ADD COLUMN dropped_ms BIGINT UNSIGNED NOT NULL DEFAULT 0;
