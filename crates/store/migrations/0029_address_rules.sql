-- Addresses and networks that people blocked, or that are the crew's.
CREATE TABLE address_rules (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    range_text VARCHAR(64) NOT NULL,
    reception VARCHAR(16) NOT NULL,
    until DATETIME(3) NULL,
    note VARCHAR(255) NOT NULL,
    made_at DATETIME(3) NOT NULL,
    made_by VARCHAR(96) NOT NULL,
    CONSTRAINT one_rule_for_a_range UNIQUE (range_text)
);
