-- +goose Up
-- What people write down of a device; whether it is kept and not visited; since when it is
-- in the state in which it is.
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS note TEXT NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS fields TEXT NULL,
  ADD COLUMN IF NOT EXISTS disabled BOOL NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS state_since DATETIME(6) NULL;

-- +goose Down
SELECT 1;
