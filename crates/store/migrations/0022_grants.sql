-- Who has no role in the house has roles on single channels.
ALTER TABLE users MODIFY COLUMN role VARCHAR(16) NULL;

CREATE TABLE channel_roles (
    user_id    BIGINT UNSIGNED NOT NULL,
    channel_id BIGINT UNSIGNED NOT NULL,
    role       VARCHAR(16) NOT NULL,
    PRIMARY KEY (user_id, channel_id),
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE,
    FOREIGN KEY (channel_id) REFERENCES channels (id) ON DELETE CASCADE
);

-- What tokens are kept within: a highest role, numbers of channels (also of such that are gone: a token whose channels
-- are gone opens nothing), and ranges of addresses, each with commas between.
ALTER TABLE tokens
    ADD COLUMN most VARCHAR(16) NULL,
    ADD COLUMN channels VARCHAR(2000) NULL,
    ADD COLUMN addresses VARCHAR(1000) NOT NULL DEFAULT '';
