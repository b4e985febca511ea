-- +goose Up
-- To whom it is told what has happened.
CREATE TABLE hooks (
    id         TEXT PRIMARY KEY,
    name       TEXT NOT NULL,
    url        TEXT NOT NULL,
    secret     TEXT NOT NULL,
    kinds      TEXT NOT NULL,
    author     TEXT NOT NULL,
    created_at DATETIME NOT NULL,
    version    INTEGER NOT NULL,
    paused     BOOLEAN NOT NULL,
    sent       INTEGER NOT NULL,
    tries      INTEGER NOT NULL,
    next_at    DATETIME,
    last_at    DATETIME,
    status     INTEGER NOT NULL,
    problem    TEXT NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE hooks;
