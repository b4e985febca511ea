-- +goose Up
-- How each person has the console: language, look, first page, clock.
CREATE TABLE preferences (
    user_id TEXT PRIMARY KEY,
    value   TEXT NOT NULL            -- JSON
) WITHOUT ROWID;

-- +goose Down
DROP TABLE preferences;
