-- +goose Up
-- New hardware in a device's place: the history stays with the place.
CREATE TABLE IF NOT EXISTS swaps (
  id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  job_id CHAR(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  old_serial VARCHAR(128) NOT NULL,
  old_model VARCHAR(128) NOT NULL,
  new_serial VARCHAR(128) NOT NULL,
  new_model VARCHAR(128) NOT NULL,
  version VARCHAR(160) NOT NULL,
  outcome VARCHAR(16) NOT NULL,
  note TEXT NOT NULL,
  KEY (device_id, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
