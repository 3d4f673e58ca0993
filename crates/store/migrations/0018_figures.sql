-- Figures over time, thinned and packed: sixty points of all figures of a show in a row, or of the machine, which has
-- session 0. The form of a block is told in crates/relay/src/timeline/block.rs.
CREATE TABLE figures (
    session_id BIGINT UNSIGNED NOT NULL,
    node_id    INT UNSIGNED NOT NULL,
    step_s     SMALLINT UNSIGNED NOT NULL,
    -- Seconds since the begin of the show; of the machine, since 1970.
    start_s    BIGINT UNSIGNED NOT NULL,
    -- When that was, to know what is old.
    began_at   DATETIME NOT NULL,
    block      MEDIUMBLOB NOT NULL,
    PRIMARY KEY (session_id, node_id, step_s, start_s),
    KEY by_age (step_s, began_at)
);

-- The shows of a channel in a range of time.
CREATE INDEX by_channel_and_time ON sessions (channel_name, started_at);
