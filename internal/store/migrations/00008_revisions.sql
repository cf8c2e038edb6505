-- +goose Up
-- revision: which change of a row a person's next one is based on. testing: the
-- job that has put another device's version on it for a while.
ALTER TABLE users ADD COLUMN IF NOT EXISTS revision INT NOT NULL DEFAULT 1;
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS revision INT NOT NULL DEFAULT 1,
  ADD COLUMN IF NOT EXISTS testing CHAR(16) NOT NULL DEFAULT '',
  ADD KEY IF NOT EXISTS (address),
  ADD KEY IF NOT EXISTS (serial);
ALTER TABLE credentials ADD COLUMN IF NOT EXISTS revision INT NOT NULL DEFAULT 1;

-- Rows that several changes have to agree about: each that does writes to its
-- row, so that two at a time conflict, on one server or on several.
CREATE TABLE IF NOT EXISTS guards (
  name VARCHAR(32) NOT NULL PRIMARY KEY,
  n BIGINT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
INSERT IGNORE INTO guards (name, n) VALUES ('admins', 0), ('addresses', 0);

-- Requests that were made with an idempotency key: what each asked for, as a
-- keyed hash.
CREATE TABLE IF NOT EXISTS asked (
  idem_key VARCHAR(128) NOT NULL PRIMARY KEY,
  hash CHAR(64) NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY (at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- form: how a row's fields were put together for its code. 1: their lengths
-- stand before them.
ALTER TABLE audit ADD COLUMN IF NOT EXISTS form TINYINT NOT NULL DEFAULT 0;

-- +goose Down
SELECT 1;
