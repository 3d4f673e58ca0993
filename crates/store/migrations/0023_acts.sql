-- Who did what: one row for each change, reveal, sign-in and refusal. Rows are added, and removed by age alone, or,
-- where strangers cause them, by number.
CREATE TABLE acts (
    id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at        DATETIME(3) NOT NULL,
    person    VARCHAR(64) NOT NULL,
    made_by   VARCHAR(16) NOT NULL,
    token     VARCHAR(96) NOT NULL,
    address   VARCHAR(64) NOT NULL,
    what      VARCHAR(48) NOT NULL,
    channel   VARCHAR(48) NULL,
    subject   VARCHAR(160) NOT NULL,
    outcome   VARCHAR(16) NOT NULL,
    reason    VARCHAR(48) NULL,
    was       MEDIUMTEXT NULL,
    became    MEDIUMTEXT NULL,
    KEY by_time (at),
    KEY by_person (person, id),
    KEY by_channel (channel, id),
    KEY by_maker (made_by, id)
);
