-- +goose Up
-- Where users, groups and what else is kept outside come from.
CREATE TABLE sources (
    id          TEXT PRIMARY KEY,
    name        TEXT NOT NULL,
    kind        TEXT NOT NULL,
    settings    BLOB NOT NULL,
    author      TEXT NOT NULL,
    mandate     TEXT NOT NULL,
    created_at  DATETIME NOT NULL,
    version     INTEGER NOT NULL,
    paused      BOOLEAN NOT NULL,
    next_run    DATETIME,
    good_at     DATETIME
) WITHOUT ROWID;
-- Which record stands for which thing of a source.
CREATE TABLE origins (
    source   TEXT NOT NULL REFERENCES sources (id) ON DELETE CASCADE,
    type     TEXT NOT NULL,
    outside  TEXT NOT NULL,
    record   TEXT NOT NULL,
    place    TEXT NOT NULL,
    gone     BOOLEAN NOT NULL,
    suspended BOOLEAN NOT NULL,
    made     BOOLEAN NOT NULL,
    told     BLOB NOT NULL,
    PRIMARY KEY (source, type, outside)
) WITHOUT ROWID;
CREATE INDEX origins_record ON origins (type, record);
-- Which memberships a source has brought.
CREATE TABLE origin_members (
    source     TEXT NOT NULL REFERENCES sources (id) ON DELETE CASCADE,
    group_id   TEXT NOT NULL,
    user_id    TEXT NOT NULL,
    PRIMARY KEY (source, group_id, user_id)
) WITHOUT ROWID;
CREATE INDEX origin_members_user ON origin_members (user_id);
-- What became of each reading of a source.
CREATE TABLE source_runs (
    source     TEXT NOT NULL REFERENCES sources (id) ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    at         DATETIME NOT NULL,
    took       INTEGER NOT NULL,
    by         TEXT NOT NULL,
    outcome    TEXT NOT NULL,
    revision   INTEGER NOT NULL,
    told       BLOB NOT NULL,
    PRIMARY KEY (source, number)
) WITHOUT ROWID;
CREATE INDEX source_runs_revision ON source_runs (revision);
-- The source for which alone a token is good.
ALTER TABLE tokens ADD COLUMN source TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE tokens DROP COLUMN source;
DROP TABLE source_runs;
DROP TABLE origin_members;
DROP TABLE origins;
DROP TABLE sources;
