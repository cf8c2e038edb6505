-- +goose Up
-- What people say of the lines of devices of theirs: that they do not count, have to be there, must not.
CREATE TABLE IF NOT EXISTS own_rules (
  name VARCHAR(64) NOT NULL PRIMARY KEY,
  kind VARCHAR(16) NOT NULL,
  selector TEXT NOT NULL,
  dialect VARCHAR(64) NOT NULL,
  path TEXT NOT NULL,
  note TEXT NOT NULL,
  changed_by VARCHAR(128) NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Drift that somebody knows of, until a time. marks are keyed hashes of the lines: of others it is drift.
CREATE TABLE IF NOT EXISTS acknowledgements (
  device_id CHAR(16) NOT NULL,
  part VARCHAR(64) NOT NULL,
  reason TEXT NOT NULL,
  actor VARCHAR(128) NOT NULL,
  at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL,
  marks MEDIUMTEXT NOT NULL,
  PRIMARY KEY (device_id, part)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Until when all drift of a device is acknowledged.
ALTER TABLE devices ADD COLUMN IF NOT EXISTS acknowledged_until DATETIME(6) NULL;

-- +goose Down
SELECT 1;
