-- Other systems of the house that are asked before somebody is let in.
CREATE TABLE house_systems (
    -- 0 for the whole house; else the channel's number, which stands in its own column besides.
    id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    channel_id BIGINT UNSIGNED NULL,
    is_on BOOLEAN NOT NULL,
    address VARCHAR(512) NOT NULL,
    sealed_secret VARBINARY(512) NOT NULL,
    asks_publishers BOOLEAN NOT NULL,
    asks_players BOOLEAN NOT NULL,
    unknown_keys VARCHAR(16) NOT NULL,
    lets_known_in BOOLEAN NOT NULL,
    time_limit_ms INT UNSIGNED NOT NULL,
    retries TINYINT UNSIGNED NOT NULL,
    again_s INT UNSIGNED NULL,
    FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);
