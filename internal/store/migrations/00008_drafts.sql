-- +goose Up
-- Changes that are gathered before they count.
CREATE TABLE drafts (
    id          TEXT PRIMARY KEY,
    name        TEXT NOT NULL,
    reason      TEXT NOT NULL,
    author      TEXT NOT NULL,        -- id of the user who began it
    hands       TEXT NOT NULL,        -- ids of all who have put anything into it, separated by spaces
    changes     BLOB NOT NULL,        -- what it does to each record, as JSON
    state       TEXT NOT NULL,        -- open, waiting, applied, ended, failed, dropped
    created_at  DATETIME NOT NULL,
    changed_at  DATETIME NOT NULL,
    version     INTEGER NOT NULL,     -- counts what was done to it
    approved_by TEXT NOT NULL,
    approved_at DATETIME,
    approved    BLOB,                 -- SHA-256 of the changes that were approved
    override    TEXT NOT NULL,        -- ids of the expectations in spite of which it is applied, separated by spaces
    applied_by  TEXT NOT NULL,        -- who applies it, or has
    mandate     TEXT NOT NULL,        -- the only one of theirs that counts; empty: all
    apply_at    DATETIME,             -- when it waits for that
    until       DATETIME,             -- when it is taken back
    revision    INTEGER NOT NULL,     -- that it was applied as
    ended       INTEGER NOT NULL,     -- the revision by which it was taken back
    problem     TEXT NOT NULL         -- why it could not be applied, or taken back, at its hour
) WITHOUT ROWID;
CREATE INDEX drafts_state ON drafts (state, changed_at);

-- +goose Down
DROP TABLE drafts;
