-- +goose Up
-- Calendars that others read by a secret address.
CREATE TABLE feeds (
    id         TEXT PRIMARY KEY,
    hash       BLOB NOT NULL UNIQUE,
    kind       TEXT NOT NULL,
    of         TEXT NOT NULL,
    zone       TEXT NOT NULL,
    user_id    TEXT NOT NULL,
    mandate    TEXT NOT NULL,
    created_at DATETIME NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE feeds;
