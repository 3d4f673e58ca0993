-- The machines of the house. There is one until others join.
CREATE TABLE nodes (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    created_at DATETIME(3) NOT NULL
);
INSERT INTO nodes (id, name, created_at) VALUES (1, 'first', UTC_TIMESTAMP(3));

-- What runs, or is kept, belongs to a node: a start closes and mends only its own, and `is_here` is about the disk
-- of that node.
ALTER TABLE sessions
    ADD COLUMN node_id INT UNSIGNED NOT NULL DEFAULT 1,
    ADD KEY by_end (ended_at);
ALTER TABLE legs ADD COLUMN node_id INT UNSIGNED NOT NULL DEFAULT 1;
ALTER TABLE takes
    ADD COLUMN node_id INT UNSIGNED NOT NULL DEFAULT 1,
    -- What the keeper looks for: takes without a digest, removed ones, those that go, those to be mended.
    ADD KEY by_digest (sha256(4)),
    ADD KEY by_removal (removed_at),
    ADD KEY by_going (is_going),
    ADD KEY by_state (state, repair(1));

-- Numbers that a node may give to sessions without asking: so a show begins without the database, and no two nodes
-- give the same.
CREATE TABLE session_blocks (
    first BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    last BIGINT UNSIGNED NOT NULL,
    node_id INT UNSIGNED NOT NULL
);

-- How often a channel, with its keys and destinations, was changed: who has an older version reads it anew.
CREATE TABLE versions (
    kind VARCHAR(16) NOT NULL,
    id BIGINT UNSIGNED NOT NULL,
    version BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (kind, id)
);

-- The parts of an upload that are there, by their number, with what the depot calls them.
CREATE TABLE copy_parts (
    session_id BIGINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    part INT UNSIGNED NOT NULL,
    content_id VARCHAR(255) NOT NULL,
    PRIMARY KEY (session_id, number, part),
    FOREIGN KEY (session_id, number) REFERENCES copies (session_id, number) ON DELETE CASCADE
);
INSERT INTO copy_parts (session_id, number, part, content_id)
    SELECT session_id, number, listed.place - 1, listed.content_id
    FROM copies, JSON_TABLE(copies.parts, '$[*]' COLUMNS (place FOR ORDINALITY, content_id VARCHAR(255) PATH '$')) listed
    WHERE copies.parts IS NOT NULL AND copies.upload_id IS NOT NULL;
ALTER TABLE copies
    DROP COLUMN parts,
    ADD KEY by_state (state);
