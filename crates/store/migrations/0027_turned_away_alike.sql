-- Those who were turned away alike are one row, which grows: `at` is the last of them. An empty address is many.
ALTER TABLE turned_away
    MODIFY COLUMN id BIGINT UNSIGNED NOT NULL,
    ADD COLUMN first_at DATETIME(3) NULL,
    ADD COLUMN attempt_count BIGINT UNSIGNED NOT NULL DEFAULT 1,
    ADD COLUMN protocol VARCHAR(8) NOT NULL DEFAULT '',
    ADD COLUMN encoder VARCHAR(96) NOT NULL DEFAULT '',
    ADD INDEX turned_away_by_time (at, id);
UPDATE turned_away SET first_at = at;
