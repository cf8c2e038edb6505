-- +goose Up
-- A logical element that a device had and has no more: its part is gone since then.
ALTER TABLE parts ADD COLUMN IF NOT EXISTS gone_at DATETIME(6) NULL;

-- +goose Down
SELECT 1;
