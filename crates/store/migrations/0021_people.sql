-- What people may do. Who was there before the roles could do everything.
ALTER TABLE users
    ADD COLUMN role VARCHAR(16) NOT NULL DEFAULT 'administrator';

-- One-time codes by which people choose their password: when they are let in, or when it is lost. Only a keyed hash is
-- kept; a newer code of a person takes the place of an older one.
CREATE TABLE invitations (
    user_id    BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    digest     BINARY(32) NOT NULL UNIQUE,
    expires_at DATETIME(3) NOT NULL,
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);
