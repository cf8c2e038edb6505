-- +goose Up
-- How a device is reached besides its address, and which hardware is expected
-- there. member: it is spoken to through its parent.
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS transport VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS parent_id CHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS member VARCHAR(128) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS jump_id CHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS timeouts TEXT NOT NULL DEFAULT '{}',
  ADD COLUMN IF NOT EXISTS ports TEXT NOT NULL DEFAULT '{}',
  ADD COLUMN IF NOT EXISTS serials TEXT NOT NULL DEFAULT '[]';

-- A name makes a credential a set that many devices share; its selector says
-- which have it without being told so. shut_since: the breaker is open.
ALTER TABLE credentials
  ADD COLUMN IF NOT EXISTS name VARCHAR(64) NULL,
  ADD COLUMN IF NOT EXISTS selector VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS shut_since DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS shut_reason VARCHAR(255) NOT NULL DEFAULT '',
  ADD UNIQUE KEY IF NOT EXISTS (name);

-- aside: why a version is kept but counts for nothing. sign: the device's own
-- sign of change. passphrase: sealed, what the content is encrypted under.
ALTER TABLE versions
  ADD COLUMN IF NOT EXISTS aside VARCHAR(32) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS sign VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS passphrase BLOB NOT NULL DEFAULT '';

-- The device's own name for the session that has the lease, so that one left
-- behind is known again.
ALTER TABLE leases ADD COLUMN IF NOT EXISTS session VARCHAR(64) NOT NULL DEFAULT '';

-- settled: all fingerprints follow its rules. uploaded: it came by the API, not
-- from a folder.
ALTER TABLE dialects
  ADD COLUMN IF NOT EXISTS settled BOOL NOT NULL DEFAULT TRUE,
  ADD COLUMN IF NOT EXISTS uploaded BOOL NOT NULL DEFAULT FALSE;

-- Files that devices made for us and that may still lie there.
CREATE TABLE IF NOT EXISTS leftovers (
  device_id CHAR(16) NOT NULL,
  part VARCHAR(64) NOT NULL,
  file VARCHAR(64) NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (device_id, file)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
