-- What a destination asks for over SRT. Its stream id is its key.
ALTER TABLE destinations
    ADD COLUMN srt_latency_ms SMALLINT UNSIGNED NOT NULL DEFAULT 500,
    ADD COLUMN sealed_passphrase VARBINARY(255) NULL;
