-- +goose Up
-- Who has looked at the service as another user sees it.
CREATE TABLE looks (
    id      INTEGER PRIMARY KEY,
    at      DATETIME NOT NULL,
    by      TEXT NOT NULL,
    user_id TEXT NOT NULL
);

-- +goose Down
DROP TABLE looks;
