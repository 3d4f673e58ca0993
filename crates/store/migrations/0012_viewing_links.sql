-- Links by which somebody without an account may watch a channel, limits, and how many watched.
ALTER TABLE channels
    MODIFY COLUMN audience ENUM('nobody', 'by-link', 'everybody') NOT NULL DEFAULT 'nobody',
    ADD COLUMN most_viewers INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN viewing_sites TEXT NULL;

CREATE TABLE viewing_links (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    channel_id BIGINT UNSIGNED NOT NULL,
    label VARCHAR(96) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    ends_at DATETIME(6) NOT NULL,
    most_viewers INT UNSIGNED NOT NULL DEFAULT 0,
    sites TEXT NULL,
    shows_rehearsals BOOLEAN NOT NULL DEFAULT FALSE,
    CONSTRAINT viewing_links_of_channel FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);

-- The most that watched within each minute; minutes in which nobody did are left out.
CREATE TABLE viewer_minutes (
    channel_id BIGINT UNSIGNED NOT NULL,
    minute DATETIME NOT NULL,
    segments INT UNSIGNED NOT NULL,
    pictures INT UNSIGNED NOT NULL,
    transport_stream INT UNSIGNED NOT NULL,
    rtmp INT UNSIGNED NOT NULL,
    srt INT UNSIGNED NOT NULL,
    PRIMARY KEY (channel_id, minute),
    KEY viewer_minutes_by_time (minute),
    CONSTRAINT viewer_minutes_of_channel FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);
