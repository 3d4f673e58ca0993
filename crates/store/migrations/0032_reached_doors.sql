-- Who from out there was last at each door: that it can be reached from outside is seen by that.
CREATE TABLE reached_doors (
    transport VARCHAR(3) NOT NULL,
    port SMALLINT UNSIGNED NOT NULL,
    address VARCHAR(64) NOT NULL,
    at DATETIME(3) NOT NULL,
    PRIMARY KEY (transport, port)
);
