-- +goose Up
-- Restore tests, and learning, replace what runs on spares only.
ALTER TABLE devices ADD COLUMN IF NOT EXISTS spare BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
ALTER TABLE devices DROP COLUMN IF EXISTS spare;
