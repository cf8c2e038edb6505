-- +goose Up
-- void: no transaction is kept under this id any more, whatever is still on its way.
ALTER TABLE commits ADD COLUMN IF NOT EXISTS void BOOLEAN NOT NULL DEFAULT FALSE;
-- Ended jobs of early releases say no time, and would never age out.
UPDATE jobs SET ended_at = COALESCE(started_at, created_at) WHERE state = 'ended' AND ended_at IS NULL;
-- What ran before a push is looked for by retention.
ALTER TABLE pushes ADD KEY IF NOT EXISTS pushes_before (before_id, changed_at);

-- +goose Down
SELECT 1;
