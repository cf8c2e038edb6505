-- +goose Up
-- When a row was last written, kept by the database itself: whoever watches is told of
-- what any instance wrote, whichever way it came about.
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6),
  ADD KEY IF NOT EXISTS (changed_at);
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6),
  ADD KEY IF NOT EXISTS (changed_at);
ALTER TABLE parts
  ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6),
  ADD KEY IF NOT EXISTS (changed_at);
ALTER TABLE versions ADD KEY IF NOT EXISTS (taken_at);

-- +goose Down
SELECT 1;
