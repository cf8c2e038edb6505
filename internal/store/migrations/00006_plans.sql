-- +goose Up
-- Devices to which nobody pushes alone: a second person approves.
CREATE TABLE IF NOT EXISTS approvals (
  id CHAR(16) NOT NULL PRIMARY KEY,
  selector VARCHAR(255) NOT NULL,
  made_by VARCHAR(64) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  UNIQUE KEY (selector)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- The last time that a version of the device was put on hardware and proved
-- equal: on itself, or in a drill on another.
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS proven_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS proven VARCHAR(255) NOT NULL DEFAULT '';

CREATE TABLE IF NOT EXISTS snapshots (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  selector VARCHAR(255) NOT NULL,
  note TEXT NOT NULL,
  made_by VARCHAR(64) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  UNIQUE KEY (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS snapshot_versions (
  snapshot_id CHAR(16) NOT NULL,
  version_id CHAR(16) NOT NULL,
  device_id CHAR(16) NOT NULL,
  PRIMARY KEY (snapshot_id, version_id),
  KEY (version_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
