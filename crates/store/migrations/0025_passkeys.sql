-- Passkeys: public keys, as the library that looks at them writes them. They are good at one host.
CREATE TABLE passkeys (
    id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    user_id      BIGINT UNSIGNED NOT NULL,
    label        VARCHAR(96) NOT NULL,
    host         VARCHAR(255) NOT NULL,
    digest       BINARY(32) NOT NULL UNIQUE,
    credential   TEXT NOT NULL,
    created_at   DATETIME(3) NOT NULL,
    last_used_at DATETIME(3) NULL,
    FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);
