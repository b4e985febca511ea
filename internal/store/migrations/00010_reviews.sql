-- +goose Up
-- Rounds in which those responsible confirm or take away what people hold.
CREATE TABLE reviews (
    id          TEXT PRIMARY KEY,
    name        TEXT NOT NULL,
    reason      TEXT NOT NULL,
    author      TEXT NOT NULL,
    mandate     TEXT NOT NULL,
    scope       BLOB NOT NULL,
    due         DATETIME NOT NULL,
    unanswered  TEXT NOT NULL,
    state       TEXT NOT NULL,
    created_at  DATETIME NOT NULL,
    ended_at    DATETIME,
    version     INTEGER NOT NULL,
    reminded    INTEGER NOT NULL,
    problem     TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE review_items (
    review    TEXT NOT NULL REFERENCES reviews (id) ON DELETE CASCADE,
    type      TEXT NOT NULL,
    record    TEXT NOT NULL,
    user      TEXT NOT NULL,
    answer    TEXT NOT NULL,
    by        TEXT NOT NULL,
    at        DATETIME,
    note      TEXT NOT NULL,
    revision  INTEGER NOT NULL,
    PRIMARY KEY (review, type, record, user)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE review_items;
DROP TABLE reviews;
