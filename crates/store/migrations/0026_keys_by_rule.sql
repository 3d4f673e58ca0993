-- When, from where and how stream keys open, and what becomes of them.
ALTER TABLE stream_keys
    -- The first key that this one stands for after renewals; itself where there is none.
    ADD COLUMN family BIGINT UNSIGNED NULL,
    -- Chosen by somebody: the prefix is only a name for it then.
    ADD COLUMN is_own BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN starts_at DATETIME(3) NULL,
    -- Windows of a week as in `mon-fri 08:00-18:00`, with semicolons between, in an IANA time zone.
    ADD COLUMN hours VARCHAR(700) NULL,
    ADD COLUMN hours_zone VARCHAR(64) NULL,
    ADD COLUMN protocols VARCHAR(32) NULL,
    ADD COLUMN most_connections INT UNSIGNED NULL,
    ADD COLUMN show_goes_on BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN sealed_passphrase VARBINARY(255) NULL,
    ADD COLUMN retired_at DATETIME(3) NULL,
    ADD COLUMN retired_show_goes_on BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN last_used_at DATETIME(3) NULL,
    ADD COLUMN last_used_from VARCHAR(64) NULL,
    ADD COLUMN last_used_by VARCHAR(96) NULL,
    ADD COLUMN last_used_over VARCHAR(8) NULL,
    -- A guest's link. The key in it can be read with what stands in the link, and with nothing that stands here.
    ADD COLUMN guest_digest BINARY(32) NULL UNIQUE,
    ADD COLUMN sealed_for_guest VARBINARY(1024) NULL,
    ADD COLUMN guest_until DATETIME(3) NULL;
