-- +goose Up
-- awaits: what a parked job waits for: confirm, restart, approval or start.
-- for_node: the only node that can do it; empty: any.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS awaits VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS for_node VARCHAR(32) NOT NULL DEFAULT '';
-- away_ms: how long the device was away for the push's restart.
ALTER TABLE pushes
  ADD COLUMN IF NOT EXISTS away_ms BIGINT NOT NULL DEFAULT 0;
UPDATE jobs SET awaits = 'confirm' WHERE state = 'waiting' AND node = '' AND awaits = '';

-- +goose Down
SELECT 1;
