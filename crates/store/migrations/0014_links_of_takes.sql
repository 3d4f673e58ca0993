-- A link may lead to one take instead of to what is on air.
ALTER TABLE viewing_links
    ADD COLUMN take_session_id BIGINT UNSIGNED NULL,
    ADD COLUMN take_number INT UNSIGNED NULL;
