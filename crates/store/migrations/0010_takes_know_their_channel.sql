-- What lists are made by stands in the row itself, so that a page is read in the order of an index.
ALTER TABLE takes ADD COLUMN channel_name VARCHAR(48) NOT NULL DEFAULT '' AFTER number;
UPDATE takes JOIN sessions ON sessions.id = takes.session_id SET takes.channel_name = sessions.channel_name;
ALTER TABLE takes
    ALTER COLUMN channel_name DROP DEFAULT,
    ADD KEY by_channel (channel_name, session_id, number);
