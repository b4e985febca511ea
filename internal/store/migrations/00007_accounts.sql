-- +goose Up
-- When a credential was used last, as far as it was kept; of what its user may do, and from where, a token can be for a part.
ALTER TABLE tokens ADD COLUMN used_at DATETIME;
ALTER TABLE tokens ADD COLUMN mandate TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN networks TEXT NOT NULL DEFAULT ''; -- separated by spaces

-- A password that somebody else has set is changed before anything else.
ALTER TABLE passwords ADD COLUMN temporary INTEGER NOT NULL DEFAULT 0;

-- Passkeys and security keys (WebAuthn) stand beside the programs for codes: what is known of the credential is the secret, its counter the step.
ALTER TABLE second_factors ADD COLUMN kind TEXT NOT NULL DEFAULT 'totp';
ALTER TABLE second_factors ADD COLUMN credential BLOB; -- id of the credential
CREATE UNIQUE INDEX second_factors_credential ON second_factors (credential) WHERE credential IS NOT NULL;

-- What people ask for who may not do it by themselves, and how it was answered.
CREATE TABLE requests (
    id          TEXT PRIMARY KEY,
    kind        TEXT NOT NULL,        -- join, access
    user_id     TEXT NOT NULL,
    group_id    TEXT NOT NULL,        -- to be joined
    right       TEXT NOT NULL,
    device      TEXT NOT NULL,        -- as it was written: an id, device/point or a name
    minutes     INTEGER NOT NULL,
    until       DATETIME,
    reason      TEXT NOT NULL,
    state       TEXT NOT NULL,        -- open, granted, refused, withdrawn, joined
    created_at  DATETIME NOT NULL,
    answered_at DATETIME,
    answered_by TEXT NOT NULL,
    answer      TEXT NOT NULL,
    revision    INTEGER NOT NULL      -- that granted it
) WITHOUT ROWID;
CREATE INDEX requests_state ON requests (state, created_at);
CREATE INDEX requests_user ON requests (user_id, created_at);

-- +goose Down
DROP TABLE requests;
DROP INDEX second_factors_credential;
ALTER TABLE second_factors DROP COLUMN credential;
ALTER TABLE second_factors DROP COLUMN kind;
ALTER TABLE passwords DROP COLUMN temporary;
ALTER TABLE tokens DROP COLUMN networks;
ALTER TABLE tokens DROP COLUMN mandate;
ALTER TABLE tokens DROP COLUMN used_at;
