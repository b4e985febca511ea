-- +goose Up
-- When a credential was used last, as far as it was kept; of what its user may do, and from where, a token can be for a part.
ALTER TABLE tokens ADD COLUMN used_at DATETIME;
ALTER TABLE tokens ADD COLUMN mandate TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN networks TEXT NOT NULL DEFAULT ''; -- separated by spaces

-- A password that somebody else has set is changed before anything else.
ALTER TABLE passwords ADD COLUMN temporary INTEGER NOT NULL DEFAULT 0;

-- Passkeys and security keys, WebAuthn.
CREATE TABLE passkeys (
    id         BLOB PRIMARY KEY,     -- of the credential
    user_id    TEXT NOT NULL,
    name       TEXT NOT NULL,
    credential BLOB NOT NULL,        -- public key, counter, flags
    created_at DATETIME NOT NULL,
    used_at    DATETIME,
    checksum   BLOB NOT NULL
) WITHOUT ROWID;
CREATE INDEX passkeys_user ON passkeys (user_id);

-- +goose Down
DROP TABLE passkeys;
ALTER TABLE passwords DROP COLUMN temporary;
ALTER TABLE tokens DROP COLUMN networks;
ALTER TABLE tokens DROP COLUMN mandate;
ALTER TABLE tokens DROP COLUMN used_at;
