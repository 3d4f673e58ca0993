-- A key opens a channel either for publishing or for watching.
ALTER TABLE stream_keys ADD COLUMN key_right VARCHAR(8) NOT NULL DEFAULT 'publish';

-- The certificate (PEM) of a platform's own authority; none: those that the machine trusts.
ALTER TABLE destinations ADD COLUMN authority TEXT NULL;
