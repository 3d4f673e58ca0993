-- What is recorded, in which form, under which names, and how long it is kept. 0 is no limit.
ALTER TABLE channels
    ADD COLUMN recording VARCHAR(8) NOT NULL DEFAULT 'always',
    ADD COLUMN take_format VARCHAR(12) NOT NULL DEFAULT 'mp4',
    ADD COLUMN split_ms INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN split_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN split_at_return BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN take_names VARCHAR(255) NOT NULL DEFAULT '{channel}/{date}_{time}_s{session}_take-{take}',
    ADD COLUMN pre_roll_ms INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN keep_s BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN keep_count INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN keep_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN depot VARCHAR(48) NULL,
    ADD COLUMN removes_copied BOOLEAN NOT NULL DEFAULT FALSE;
UPDATE channels SET recording = IF(records, 'always', 'off');
ALTER TABLE channels DROP COLUMN records;

-- What the recorder knows of a take,
ALTER TABLE takes
    MODIFY COLUMN path VARCHAR(512) NOT NULL,
    ADD COLUMN gap_count INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN gap_ms BIGINT UNSIGNED NOT NULL DEFAULT 0,
    -- A JSON list of moments with their titles.
    ADD COLUMN marks MEDIUMTEXT NULL,
    -- What was done to a take that was not ended in order.
    ADD COLUMN repair VARCHAR(255) NULL,
    -- what people make of it,
    ADD COLUMN title VARCHAR(160) NULL,
    ADD COLUMN note TEXT NULL,
    ADD COLUMN is_locked BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN cut_from INT UNSIGNED NULL,
    ADD COLUMN removed_at DATETIME(3) NULL,
    -- and where its bytes are: the digest of the file; whether it is on the disk; when it is gone for good.
    ADD COLUMN sha256 BINARY(32) NULL,
    ADD COLUMN is_here BOOLEAN NOT NULL DEFAULT TRUE,
    ADD KEY by_time (started_at);

-- Object storage that takes are copied to. Its secret is encrypted; see the secrets module.
CREATE TABLE depots (
    name VARCHAR(48) NOT NULL PRIMARY KEY,
    endpoint VARCHAR(255) NOT NULL,
    region VARCHAR(64) NOT NULL,
    bucket VARCHAR(64) NOT NULL,
    prefix VARCHAR(160) NOT NULL,
    access_key VARCHAR(128) NOT NULL,
    sealed_secret VARBINARY(1024) NOT NULL,
    created_at DATETIME(3) NOT NULL
);

-- A take's copy in a depot: planned, on its way, or done.
CREATE TABLE copies (
    session_id BIGINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    depot VARCHAR(48) NOT NULL,
    object_key VARCHAR(768) NOT NULL,
    state VARCHAR(16) NOT NULL,
    -- Of an upload in parts: its name there, the length of a part, and a JSON list of what is there.
    upload_id VARCHAR(512) NULL,
    part_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    parts MEDIUMTEXT NULL,
    sent_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    attempt_count INT UNSIGNED NOT NULL DEFAULT 0,
    error VARCHAR(255) NULL,
    changed_at DATETIME(3) NOT NULL,
    PRIMARY KEY (session_id, number),
    FOREIGN KEY (session_id, number) REFERENCES takes (session_id, number) ON DELETE CASCADE
);
