-- +goose Up
-- What was brought to a source that is read from no address.
CREATE TABLE source_contents (
    source  TEXT PRIMARY KEY REFERENCES sources (id) ON DELETE CASCADE,
    at      DATETIME NOT NULL,
    by      TEXT NOT NULL,
    body    BLOB NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE source_contents;
