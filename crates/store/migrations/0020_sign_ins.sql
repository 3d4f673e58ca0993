-- Where and when a token was used last, and by what: so that people see their own sign-ins.
ALTER TABLE tokens
    ADD COLUMN device VARCHAR(160) NOT NULL DEFAULT '',
    ADD COLUMN address VARCHAR(64) NOT NULL DEFAULT '',
    ADD COLUMN last_used_at DATETIME(3) NULL;
