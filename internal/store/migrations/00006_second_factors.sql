-- +goose Up
-- What somebody proves who they are by beside the password.
CREATE TABLE second_factors (
    id         TEXT PRIMARY KEY,
    user_id    TEXT NOT NULL,
    name       TEXT NOT NULL,
    secret     BLOB NOT NULL,        -- of RFC 6238, which both sides have to know
    step       INTEGER NOT NULL,     -- of the last code that was taken: none is good twice
    created_at DATETIME NOT NULL,
    checksum   BLOB NOT NULL
) WITHOUT ROWID;
CREATE INDEX second_factors_user ON second_factors (user_id);

-- Codes for whoever has lost theirs, each good once.
CREATE TABLE recovery_codes (
    hash    BLOB PRIMARY KEY,        -- SHA-256 of the code, which is random and shown once
    user_id TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX recovery_codes_user ON recovery_codes (user_id);

-- Whether a session was begun with a second factor.
ALTER TABLE tokens ADD COLUMN strong INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE tokens DROP COLUMN strong;
DROP TABLE recovery_codes;
DROP TABLE second_factors;
