-- +goose Up
-- state: all that decides what comes next for a push, as JSON. It holds no
-- configuration text. NULL: left by a program that kept none.
ALTER TABLE pushes
  ADD COLUMN IF NOT EXISTS state TEXT NULL;

-- +goose Down
SELECT 1;
