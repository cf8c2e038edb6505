-- +goose Up
-- What is looked for by these is found without reading all there is. A request
-- names every device of a large fleet, which 64 KiB do not hold.
ALTER TABLE devices
  ADD KEY IF NOT EXISTS (parent_id),
  ADD KEY IF NOT EXISTS (credential_id);
ALTER TABLE pushes ADD KEY IF NOT EXISTS (device_id);
ALTER TABLE jobs
  ADD KEY IF NOT EXISTS by_name (device, id),
  MODIFY COLUMN request MEDIUMBLOB NOT NULL;

-- +goose Down
SELECT 1;
