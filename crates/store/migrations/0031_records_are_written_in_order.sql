-- A statement that a slow server does late must not undo a later one, nor one that is done twice be kept twice.
ALTER TABLE legs ADD COLUMN written BIGINT UNSIGNED NOT NULL DEFAULT 0;
ALTER TABLE takes ADD COLUMN written BIGINT UNSIGNED NOT NULL DEFAULT 0;
ALTER TABLE acts ADD COLUMN mark VARCHAR(40) NULL, ADD CONSTRAINT noted_once UNIQUE (mark);
