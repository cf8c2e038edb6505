-- +goose Up
-- For which devices somebody is an operator, or a token is good; empty: for all.
ALTER TABLE users ADD COLUMN IF NOT EXISTS scope VARCHAR(255) NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS scope VARCHAR(255) NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
