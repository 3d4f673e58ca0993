-- Keys of authenticators, sealed. One counts since its first code was given; `last_step` is the step of time of the last
-- code that was taken.
CREATE TABLE second_factors (
    user_id   BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    sealed    VARBINARY(255) NOT NULL,
    since     DATETIME(3) NULL,
    last_step BIGINT UNSIGNED NOT NULL DEFAULT 0,
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);

CREATE TABLE recovery_codes (
    user_id BIGINT UNSIGNED NOT NULL,
    digest  BINARY(32) NOT NULL,
    PRIMARY KEY (user_id, digest),
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);

-- A link for who lost the second factor, too.
ALTER TABLE invitations ADD COLUMN drops_second_factor BOOLEAN NOT NULL DEFAULT FALSE;
