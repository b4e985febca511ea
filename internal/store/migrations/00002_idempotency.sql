-- +goose Up
-- The Idempotency-Key of the request that made a revision, and the SHA-256 of its body.
ALTER TABLE revisions ADD COLUMN request_key TEXT;
ALTER TABLE revisions ADD COLUMN request_hash BLOB;
CREATE UNIQUE INDEX revisions_request ON revisions (by, request_key) WHERE request_key IS NOT NULL;

-- +goose Down
DROP INDEX revisions_request;
ALTER TABLE revisions DROP COLUMN request_hash;
ALTER TABLE revisions DROP COLUMN request_key;
