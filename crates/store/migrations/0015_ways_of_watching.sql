-- By which ways a channel can be watched (NULL is all of them), and what players get that wait for a show.
ALTER TABLE channels
    ADD COLUMN viewing_ways VARCHAR(64) NULL,
    ADD COLUMN between_shows ENUM('silence', 'picture') NOT NULL DEFAULT 'silence';
