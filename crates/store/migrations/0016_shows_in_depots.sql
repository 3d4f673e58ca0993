-- A channel's show may be told from a depot while it is on air; viewers reach the depot's objects by an address of its
-- own.
ALTER TABLE channels ADD COLUMN published_to VARCHAR(64) NULL;
ALTER TABLE depots ADD COLUMN public_address VARCHAR(512) NULL;
