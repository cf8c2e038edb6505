-- +goose Up
-- The cheap sign of change that a part had when it was last fetched whole, hashed with whose it
-- was and how it was read; and when that was.
ALTER TABLE parts
  ADD COLUMN IF NOT EXISTS sign VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS fetched_at DATETIME(6) NULL;

-- +goose Down
SELECT 1;
