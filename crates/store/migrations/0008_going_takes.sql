-- A take whose removal has begun: nothing can be done with it any more but to finish that. What is
-- decided on a list that was read before is thereby decided on what is there now.
ALTER TABLE takes ADD COLUMN is_going BOOLEAN NOT NULL DEFAULT FALSE;
