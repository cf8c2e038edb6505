-- +goose Up
-- Where copies of versions are kept besides here. Its secrets are sealed in body.
CREATE TABLE IF NOT EXISTS targets (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  kind VARCHAR(16) NOT NULL,
  place VARCHAR(255) NOT NULL,
  body BLOB NOT NULL,
  keep BOOL NOT NULL,
  paused BOOL NOT NULL,
  note TEXT NOT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  reached_at DATETIME(6) NULL,
  failing_at DATETIME(6) NULL,
  next_at DATETIME(6) NULL,
  tries INT NOT NULL DEFAULT 0,
  trouble VARCHAR(1024) NOT NULL DEFAULT '',
  free_bytes BIGINT NULL,
  UNIQUE KEY (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What is to be at a target and what is there: a row a version and target. It is written in the
-- transaction that keeps the version. One that is to leave stays here until it has.
CREATE TABLE IF NOT EXISTS copies (
  target_id CHAR(16) NOT NULL,
  version_id CHAR(16) NOT NULL,
  state VARCHAR(16) NOT NULL,
  path VARCHAR(255) NOT NULL DEFAULT '',
  bytes BIGINT NOT NULL DEFAULT 0,
  at DATETIME(6) NULL,
  trouble VARCHAR(255) NOT NULL DEFAULT '',
  PRIMARY KEY (target_id, version_id),
  KEY copies_due (target_id, state, version_id),
  KEY copies_of (version_id, state)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- The backups of the whole service that were made, and which of them were proved.
CREATE TABLE IF NOT EXISTS backups (
  id CHAR(16) NOT NULL PRIMARY KEY,
  target_id CHAR(16) NOT NULL,
  path VARCHAR(255) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  made_by VARCHAR(64) NOT NULL,
  history BOOL NOT NULL,
  bytes BIGINT NOT NULL,
  devices INT NOT NULL,
  versions INT NOT NULL,
  proven_at DATETIME(6) NULL,
  trouble VARCHAR(1024) NOT NULL DEFAULT '',
  KEY (target_id, made_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- How much was kept at the end of a day, to tell growth by.
CREATE TABLE IF NOT EXISTS sizes (
  day DATE NOT NULL PRIMARY KEY,
  versions BIGINT NOT NULL,
  bytes BIGINT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- To whom is sealed what the master key shall open: an age recipient.
ALTER TABLE instance ADD COLUMN IF NOT EXISTS recipient VARCHAR(96) NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
