-- +goose Up
-- What was done, asked and refused: entries one after the other, some to a block, each chained by SHA-256 to the one before. docs/record.md
-- says how a block is written: as lines of text, which anybody can read.
CREATE TABLE audit_blocks (
    first INTEGER PRIMARY KEY,   -- number of its first entry
    last  INTEGER NOT NULL,
    body  TEXT NOT NULL
);

-- Where the entries of a day lie. A clock that was put back makes days overlap.
CREATE TABLE audit_days (
    day   INTEGER PRIMARY KEY,   -- since 1970, UTC
    first INTEGER NOT NULL,
    last  INTEGER NOT NULL
);

-- In which blocks entries of a day are that are about a user or a device, or, of entries that are no decisions, by a user or of a kind. It is
-- made of the blocks, many at once.
CREATE TABLE audit_postings (
    day    INTEGER NOT NULL,
    key    TEXT NOT NULL,
    up_to  INTEGER NOT NULL,     -- the last entry that was looked at for it
    blocks BLOB NOT NULL,        -- their first entries, as differences
    PRIMARY KEY (day, key, up_to)
) WITHOUT ROWID;

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
DROP TABLE audit_postings;
DROP TABLE audit_days;
DROP TABLE audit_blocks;
