-- Facts about this database itself, such as which key file it belongs to.
CREATE TABLE house_facts (
    name VARCHAR(48) NOT NULL PRIMARY KEY,
    value VARBINARY(255) NOT NULL
);

CREATE TABLE users (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    password_hash VARCHAR(255) NOT NULL,
    created_at DATETIME(3) NOT NULL
);

-- Bearer tokens of programs and cookies of the console; only keyed hashes are kept.
CREATE TABLE tokens (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    user_id BIGINT UNSIGNED NOT NULL,
    label VARCHAR(96) NOT NULL,
    digest BINARY(32) NOT NULL UNIQUE,
    created_at DATETIME(3) NOT NULL,
    expires_at DATETIME(3) NULL,
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);

CREATE TABLE channels (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(48) NOT NULL UNIQUE,
    title VARCHAR(160) NOT NULL,
    hold_ms INT UNSIGNED NOT NULL,
    records BOOLEAN NOT NULL,
    created_at DATETIME(3) NOT NULL
);

CREATE TABLE stream_keys (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    channel_id BIGINT UNSIGNED NOT NULL,
    label VARCHAR(96) NOT NULL,
    prefix CHAR(7) NOT NULL,
    digest BINARY(32) NOT NULL UNIQUE,
    created_at DATETIME(3) NOT NULL,
    expires_at DATETIME(3) NULL,
    FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);

CREATE TABLE destinations (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    address VARCHAR(255) NOT NULL,
    -- Encrypted; see the secrets module.
    sealed_key VARBINARY(1024) NOT NULL,
    created_at DATETIME(3) NOT NULL
);

CREATE TABLE channel_destinations (
    channel_id BIGINT UNSIGNED NOT NULL,
    destination_id BIGINT UNSIGNED NOT NULL,
    switched_on BOOLEAN NOT NULL,
    PRIMARY KEY (channel_id, destination_id),
    FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE,
    FOREIGN KEY (destination_id) REFERENCES destinations (id) ON DELETE CASCADE
);

-- Names are kept beside numbers, so that the record of a show outlives what it was made of.
CREATE TABLE sessions (
    id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    channel_id BIGINT UNSIGNED NOT NULL,
    channel_name VARCHAR(48) NOT NULL,
    key_label VARCHAR(96) NOT NULL,
    publisher_address VARCHAR(64) NOT NULL,
    encoder VARCHAR(160) NOT NULL,
    started_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    end_reason VARCHAR(160) NULL,
    loss_count INT UNSIGNED NOT NULL DEFAULT 0,
    KEY by_channel (channel_name, id)
);

CREATE TABLE legs (
    session_id BIGINT UNSIGNED NOT NULL,
    destination_id BIGINT UNSIGNED NOT NULL,
    destination_name VARCHAR(64) NOT NULL,
    state VARCHAR(24) NOT NULL,
    reason VARCHAR(255) NULL,
    sent_frame_count BIGINT UNSIGNED NOT NULL,
    sent_bytes BIGINT UNSIGNED NOT NULL,
    dropped_frame_count BIGINT UNSIGNED NOT NULL,
    redial_count INT UNSIGNED NOT NULL,
    PRIMARY KEY (session_id, destination_id),
    FOREIGN KEY (session_id) REFERENCES sessions (id) ON DELETE CASCADE
);

CREATE TABLE takes (
    session_id BIGINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    path VARCHAR(255) NOT NULL,
    state VARCHAR(16) NOT NULL,
    started_at DATETIME(3) NOT NULL,
    duration_ms BIGINT UNSIGNED NOT NULL,
    size_bytes BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (session_id, number),
    FOREIGN KEY (session_id) REFERENCES sessions (id) ON DELETE CASCADE
);

CREATE TABLE turned_away (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at DATETIME(3) NOT NULL,
    address VARCHAR(64) NOT NULL,
    reason VARCHAR(32) NOT NULL,
    detail VARCHAR(255) NOT NULL,
    key_prefix VARCHAR(16) NULL,
    channel_name VARCHAR(48) NULL
);
