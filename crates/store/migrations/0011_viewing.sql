-- Who may watch a channel without an account, how near to the moment, and how far one can go back.
ALTER TABLE channels
    ADD COLUMN audience ENUM('nobody', 'everybody') NOT NULL DEFAULT 'nobody',
    ADD COLUMN nearness ENUM('nearest', 'near', 'steady') NOT NULL DEFAULT 'near',
    ADD COLUMN viewing_back_ms INT UNSIGNED NOT NULL DEFAULT 30000,
    ADD COLUMN is_viewing_always_ready BOOLEAN NOT NULL DEFAULT FALSE;
