-- What a channel asks of encoders and players over SRT.
ALTER TABLE channels
    ADD COLUMN srt_latency_ms SMALLINT UNSIGNED NOT NULL DEFAULT 500,
    ADD COLUMN sealed_passphrase VARBINARY(255) NULL;
