-- What the page of a channel says besides the show, as JSON.
ALTER TABLE channels ADD COLUMN viewing_page MEDIUMTEXT NULL;
