-- +goose Up
-- due_at: when a push that waits for a person undoes itself. A waiting job
-- without a node is parked: any node takes it up when it is decided or due.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS due_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS decision VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS decided_by VARCHAR(64) NOT NULL DEFAULT '';

-- undo_by: what takes the push back when nobody confirms it; token: by which
-- the device knows its own undo again.
ALTER TABLE pushes
  ADD COLUMN IF NOT EXISTS undo_by VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS token VARCHAR(32) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS due_at DATETIME(6) NULL;

-- +goose Down
SELECT 1;
