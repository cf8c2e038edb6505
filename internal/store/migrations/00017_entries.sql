-- +goose Up
-- What people write down of a device; whether it is kept and not visited.
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS note TEXT NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS fields TEXT NULL,
  ADD COLUMN IF NOT EXISTS disabled BOOL NOT NULL DEFAULT FALSE;

-- +goose Down
SELECT 1;
