-- +goose Up
-- held: somebody is sending it until next_at; to try it at once by hand does not have it sent
-- a second time beside that.
ALTER TABLE messages ADD COLUMN IF NOT EXISTS held BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
SELECT 1;
