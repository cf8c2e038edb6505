-- +goose Up
-- awaits: what a parked job waits for: confirm, restart, approval or start.
-- for_node: the only node that can do it; empty: any.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS awaits VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS for_node VARCHAR(32) NOT NULL DEFAULT '';
UPDATE jobs SET awaits = 'confirm' WHERE state = 'waiting' AND node = '' AND awaits = '';

-- +goose Down
SELECT 1;
