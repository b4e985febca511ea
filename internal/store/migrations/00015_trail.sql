-- +goose Up
-- A folder that was in use has done something beside the policy that nobody has followed.
INSERT INTO facts (name, value)
SELECT 'trail', lower(hex(randomblob(16)))
WHERE EXISTS (SELECT 1 FROM revisions) OR EXISTS (SELECT 1 FROM facts);

-- +goose Down
DELETE FROM facts WHERE name = 'trail';
