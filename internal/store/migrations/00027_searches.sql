-- +goose Up
-- Searches that are kept are settings by names that people choose.
ALTER TABLE settings MODIFY name VARCHAR(128) NOT NULL;

-- +goose Down
SELECT 1;
