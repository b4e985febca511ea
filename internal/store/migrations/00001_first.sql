-- +goose Up
CREATE TABLE revisions (
    number  INTEGER PRIMARY KEY,
    at      DATETIME NOT NULL,
    by      TEXT NOT NULL,             -- the user who made it; empty: the service's own beginning
    via     TEXT NOT NULL,             -- console, command line, api, import …
    note    TEXT NOT NULL DEFAULT '',
    chain   BLOB NOT NULL              -- SHA-256 over the revision before and all of this one
);
CREATE TABLE changes (
    revision INTEGER NOT NULL REFERENCES revisions (number),
    seq      INTEGER NOT NULL,
    type     TEXT NOT NULL,
    id       TEXT NOT NULL,
    before   TEXT,                     -- the record without its long list; NULL: it was made
    after    TEXT,                     -- likewise; NULL: it was removed
    added    TEXT,                     -- entries of the long list, as a JSON list
    dropped  TEXT,
    PRIMARY KEY (revision, seq)
) WITHOUT ROWID;
CREATE INDEX changes_record ON changes (type, id, revision);

-- The records as they are now. The long lists, members and devices, have rows of their own.
CREATE TABLE records (
    type TEXT NOT NULL,
    id   TEXT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (type, id)
) WITHOUT ROWID;
CREATE TABLE entries (
    type  TEXT NOT NULL,               -- user_groups or device_groups
    id    TEXT NOT NULL,
    of    TEXT NOT NULL,               -- the user or the device
    entry TEXT NOT NULL,               -- as JSON, with its dates
    PRIMARY KEY (type, id, of, entry),
    FOREIGN KEY (type, id) REFERENCES records (type, id) ON DELETE CASCADE
) WITHOUT ROWID;
CREATE INDEX entries_of ON entries (of);

CREATE TABLE passwords (
    user_id    TEXT PRIMARY KEY,
    hash       TEXT NOT NULL,          -- argon2id, with its parameters
    changed_at DATETIME NOT NULL
) WITHOUT ROWID;
CREATE TABLE tokens (
    id         TEXT PRIMARY KEY,
    user_id    TEXT NOT NULL,
    name       TEXT NOT NULL,
    hash       BLOB NOT NULL UNIQUE,   -- SHA-256 of the token, which is random and shown once
    kind       TEXT NOT NULL,          -- token, console or terminal (a sign-in)
    created_at DATETIME NOT NULL,
    created_by TEXT NOT NULL,
    expires_at DATETIME,
    revoked_at DATETIME
);
CREATE INDEX tokens_user ON tokens (user_id);

-- +goose Down
DROP TABLE tokens;
DROP TABLE passwords;
DROP TABLE entries;
DROP TABLE records;
DROP TABLE changes;
DROP TABLE revisions;
