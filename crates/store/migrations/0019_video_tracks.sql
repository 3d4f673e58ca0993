-- The track of pictures that a destination gets, counted from 1; NULL for all that it takes.
ALTER TABLE destinations
    ADD COLUMN video_track TINYINT UNSIGNED NULL;
