-- A key opens a channel either for publishing or for watching.
ALTER TABLE stream_keys ADD COLUMN key_right VARCHAR(8) NOT NULL DEFAULT 'publish';

-- The certificate (PEM) of a platform's own authority; none: those that the machine trusts.
ALTER TABLE destinations ADD COLUMN authority TEXT NULL;

-- For encoders with user name and password: the salt that they are sent, and, encrypted, what
-- their answers are checked by. Keys that are older have none.
ALTER TABLE stream_keys ADD COLUMN password_salt VARCHAR(16) NULL;
ALTER TABLE stream_keys ADD COLUMN sealed_password_digest VARBINARY(255) NULL;
