-- +goose Up
-- Findings that somebody has looked at and left as they are, until they come back.
CREATE TABLE dismissals (
    finding TEXT PRIMARY KEY,
    reason  TEXT NOT NULL,
    until   DATETIME NOT NULL,
    by      TEXT NOT NULL,
    at      DATETIME NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE dismissals;
