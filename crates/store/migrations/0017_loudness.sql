-- The loudness that a channel's sound is to have, in LUFS; NULL if nobody chose one.
ALTER TABLE channels
    ADD COLUMN loudness_lufs TINYINT NULL;
