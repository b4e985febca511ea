-- +goose Up
-- Who has looked at the service as another user sees it.
CREATE TABLE looks (
    id      INTEGER PRIMARY KEY,
    at      DATETIME NOT NULL,
    by      TEXT NOT NULL,
    user_id TEXT NOT NULL
);

-- Nothing looks for entries by whom they are of, and keeping the index was half the time of writing them.
DROP INDEX entries_of;

-- +goose Down
CREATE INDEX entries_of ON entries (of);
DROP TABLE looks;
