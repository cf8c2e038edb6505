-- +goose Up
-- Under what a job was asked for: role, right to see secrets, scope. Sealed and bound to the job.
ALTER TABLE jobs ADD COLUMN IF NOT EXISTS granted VARBINARY(4000) NULL;

-- +goose Down
SELECT 1;
