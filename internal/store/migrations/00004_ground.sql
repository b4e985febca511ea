-- +goose Up
-- By which form the chain was made, the hash over all records and entries, and the answer that repetitions of the request get.
ALTER TABLE revisions ADD COLUMN form INTEGER NOT NULL DEFAULT 1;
ALTER TABLE revisions ADD COLUMN state BLOB;
ALTER TABLE revisions ADD COLUMN answer BLOB;

-- What credentials are read by is checked; none: from before there were checksums.
ALTER TABLE passwords ADD COLUMN checksum BLOB;
ALTER TABLE tokens ADD COLUMN checksum BLOB;
ALTER TABLE tokens ADD COLUMN request_key TEXT;
ALTER TABLE tokens ADD COLUMN request_hash BLOB;
ALTER TABLE tokens ADD COLUMN sealed BLOB;   -- the answer, that the caller's own secret opens
CREATE UNIQUE INDEX tokens_request ON tokens (created_by, request_key) WHERE request_key IS NOT NULL;

-- Links by which a person sets a password: good once and for a time.
CREATE TABLE links (
    hash       BLOB PRIMARY KEY,     -- SHA-256 of the secret, which is random and shown once
    user_id    TEXT NOT NULL,
    created_at DATETIME NOT NULL,
    created_by TEXT NOT NULL,
    expires_at DATETIME NOT NULL,
    checksum   BLOB NOT NULL
) WITHOUT ROWID;

-- Where accounts have been signed in from, so that somebody else's wrong tries do not keep their owners out.
CREATE TABLE places (
    user_id TEXT NOT NULL,
    place   BLOB NOT NULL,           -- a hash of the address
    at      DATETIME NOT NULL,
    PRIMARY KEY (user_id, place)
) WITHOUT ROWID;

-- What there is one of.
CREATE TABLE facts (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE facts;
DROP TABLE places;
DROP TABLE links;
DROP INDEX tokens_request;
ALTER TABLE tokens DROP COLUMN sealed;
ALTER TABLE tokens DROP COLUMN request_hash;
ALTER TABLE tokens DROP COLUMN request_key;
ALTER TABLE tokens DROP COLUMN checksum;
ALTER TABLE passwords DROP COLUMN checksum;
ALTER TABLE revisions DROP COLUMN answer;
ALTER TABLE revisions DROP COLUMN state;
ALTER TABLE revisions DROP COLUMN form;
