-- Attempts to sign in of the last minutes, by the SHA-256 of the name: names are foreign text.
CREATE TABLE sign_in_attempt (
    name_sha256 bytea NOT NULL,
    at timestamptz NOT NULL
);
CREATE INDEX sign_in_attempt_by_name ON sign_in_attempt (name_sha256);
CREATE INDEX sign_in_attempt_by_time ON sign_in_attempt (at);
