-- +goose Up
-- Whoever prepares the database holds the row of the table preparing now, which
-- holds on every server of a cluster.
DROP TABLE IF EXISTS migrating;

-- +goose Down
SELECT 1;
