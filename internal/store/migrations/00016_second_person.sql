-- +goose Up
-- Which rules an approval was given for, and on which revision what it gives was shown.
ALTER TABLE drafts ADD COLUMN approved_for TEXT NOT NULL DEFAULT '';
ALTER TABLE drafts ADD COLUMN approved_on INTEGER NOT NULL DEFAULT 0;
-- What a draft does beside the policy: to settings of the service, sources and webhooks.
ALTER TABLE drafts ADD COLUMN acts BLOB;
-- Whether a request was made by a person in a session of their own.
ALTER TABLE requests ADD COLUMN in_session BOOLEAN NOT NULL DEFAULT FALSE;
-- Who set a source up, ever.
ALTER TABLE sources ADD COLUMN hands TEXT NOT NULL DEFAULT '';
UPDATE sources SET hands = author;
-- Whose way in was handed out by whom.
CREATE TABLE handed_out (
    user_id  TEXT NOT NULL,
    by       TEXT NOT NULL,
    what     TEXT NOT NULL,
    at       DATETIME NOT NULL,
    PRIMARY KEY (user_id, by, what)
) WITHOUT ROWID;
-- To whom somebody alone has given something of late.
CREATE TABLE given (
    by       TEXT NOT NULL,
    user_id  TEXT NOT NULL,
    at       DATETIME NOT NULL,
    PRIMARY KEY (by, user_id)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE given;
DROP TABLE handed_out;
ALTER TABLE sources DROP COLUMN hands;
ALTER TABLE requests DROP COLUMN in_session;
ALTER TABLE drafts DROP COLUMN acts;
ALTER TABLE drafts DROP COLUMN approved_on;
ALTER TABLE drafts DROP COLUMN approved_for;
