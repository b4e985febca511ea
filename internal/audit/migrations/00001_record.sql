-- +goose Up
-- What was done, asked and refused: one row each, chained by SHA-256 in the order of seq.
CREATE TABLE audit_entries (
    seq       INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,  -- microseconds since 1970, UTC
    day       INTEGER NOT NULL,  -- days since 1970, UTC
    kind      TEXT NOT NULL,
    outcome   TEXT NOT NULL,
    by        TEXT NOT NULL,
    via       TEXT NOT NULL,
    token     TEXT NOT NULL,
    came_from TEXT NOT NULL,
    user      TEXT NOT NULL,
    right     TEXT NOT NULL,
    device    TEXT NOT NULL,
    point     TEXT NOT NULL,
    revision  INTEGER NOT NULL,
    more      TEXT NOT NULL,     -- JSON, or empty
    chain     BLOB NOT NULL      -- over the chain before and all columns but day
);
-- Days come first, so that new rows go into a part of an index that is at hand, however many rows there are.
CREATE INDEX audit_user ON audit_entries (day, user) WHERE user <> '';
CREATE INDEX audit_device ON audit_entries (day, device) WHERE device <> '';
CREATE INDEX audit_by ON audit_entries (day, by) WHERE kind <> 'decision';
CREATE INDEX audit_kind ON audit_entries (kind) WHERE kind <> 'decision';

-- Where the entries of a day lie. A clock that was put back makes days overlap.
CREATE TABLE audit_days (
    day   INTEGER PRIMARY KEY,
    first INTEGER NOT NULL,
    last  INTEGER NOT NULL
);

-- What the service signed, so that a copy kept elsewhere tells whether the record still holds it.
CREATE TABLE audit_checkpoints (
    seq       INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    chain     BLOB NOT NULL,
    key       BLOB NOT NULL,     -- Ed25519, public
    signature BLOB NOT NULL
);

CREATE TABLE audit_facts (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE audit_facts;
DROP TABLE audit_checkpoints;
DROP TABLE audit_days;
DROP TABLE audit_entries;
