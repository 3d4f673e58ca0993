-- Other systems and people that are told what happens, and what they were told.
CREATE TABLE call_targets (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL,
    -- None: what happens in all channels, and in the house.
    channel_id BIGINT UNSIGNED NULL,
    is_on BOOLEAN NOT NULL,
    sealed_address VARBINARY(1024) NOT NULL,
    sealed_secret VARBINARY(512) NOT NULL,
    -- Stable words with commas between.
    kinds VARCHAR(1024) NOT NULL,
    -- None: as an event in JSON.
    content_type VARCHAR(64) NULL,
    template VARCHAR(8192) NULL,
    CONSTRAINT one_call_target_of_a_name UNIQUE (name),
    FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);

CREATE TABLE deliveries (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    target_id BIGINT UNSIGNED NOT NULL,
    -- Those of a target and a lane come one after the other: the channel's number, 0 for the house.
    lane BIGINT UNSIGNED NOT NULL,
    event_id VARCHAR(64) NOT NULL,
    kind VARCHAR(32) NOT NULL,
    channel VARCHAR(64) NULL,
    happened_at DATETIME(3) NOT NULL,
    event MEDIUMTEXT NOT NULL,
    state VARCHAR(16) NOT NULL,
    tries INT UNSIGNED NOT NULL DEFAULT 0,
    next_at DATETIME(3) NOT NULL,
    tried_at DATETIME(3) NULL,
    took_ms INT UNSIGNED NULL,
    status SMALLINT UNSIGNED NULL,
    answer VARCHAR(2000) NULL,
    fault VARCHAR(500) NULL,
    CONSTRAINT told_once UNIQUE (target_id, event_id),
    INDEX deliveries_that_wait (state, target_id, lane, id),
    INDEX deliveries_by_age (state, happened_at),
    FOREIGN KEY (target_id) REFERENCES call_targets (id) ON DELETE CASCADE
);
