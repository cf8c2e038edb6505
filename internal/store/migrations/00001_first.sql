-- +goose Up
CREATE TABLE IF NOT EXISTS instance (
  id INT NOT NULL PRIMARY KEY,
  master_id VARCHAR(32) NOT NULL,
  hash_key VARBINARY(255) NOT NULL,
  made_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS data_keys (
  id INT UNSIGNED NOT NULL PRIMARY KEY,
  wrapped VARBINARY(255) NOT NULL,
  made_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- A row here tells that the transaction that wrote it was committed.
CREATE TABLE IF NOT EXISTS commits (
  id CHAR(16) NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  KEY (at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS users (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  role VARCHAR(16) NOT NULL,
  secrets BOOL NOT NULL,
  password VARCHAR(255) NOT NULL,
  disabled BOOL NOT NULL,
  made_at DATETIME(6) NOT NULL,
  UNIQUE KEY (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Sessions of browsers and tokens of programs; only a hash of either is kept.
CREATE TABLE IF NOT EXISTS tokens (
  id CHAR(16) NOT NULL PRIMARY KEY,
  hash CHAR(64) NOT NULL,
  user_id CHAR(16) NOT NULL,
  kind VARCHAR(16) NOT NULL,
  name VARCHAR(64) NOT NULL,
  csrf VARCHAR(64) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  expires_at DATETIME(6) NOT NULL,
  UNIQUE KEY (hash),
  KEY (user_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS dialects (
  name VARCHAR(64) NOT NULL,
  revision INT NOT NULL,
  hash CHAR(64) NOT NULL,
  source MEDIUMTEXT NOT NULL,
  loaded_at DATETIME(6) NOT NULL,
  PRIMARY KEY (name, revision)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS credentials (
  id CHAR(16) NOT NULL PRIMARY KEY,
  user VARCHAR(128) NOT NULL,
  sealed BLOB NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS devices (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  address VARCHAR(255) NOT NULL,
  port INT NOT NULL,
  site VARCHAR(64) NOT NULL,
  kind VARCHAR(32) NOT NULL,
  tags TEXT NOT NULL,
  dialect VARCHAR(64) NOT NULL,
  host_key TEXT NOT NULL,
  credential_id CHAR(16) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  removed_at DATETIME(6) NULL,
  state VARCHAR(32) NOT NULL,
  drifted BOOL NOT NULL,
  unsaved BOOL NOT NULL,
  trouble TEXT NOT NULL,
  host VARCHAR(128) NOT NULL,
  model VARCHAR(128) NOT NULL,
  serial VARCHAR(128) NOT NULL,
  software VARCHAR(128) NOT NULL,
  last_tried DATETIME(6) NULL,
  last_pulled DATETIME(6) NULL,
  last_changed DATETIME(6) NULL,
  latest INT NOT NULL,
  UNIQUE KEY (name),
  KEY (state)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- A refused login: nothing tries this credential there until a person says so.
CREATE TABLE IF NOT EXISTS latches (
  device_id CHAR(16) NOT NULL,
  credential_id CHAR(16) NOT NULL,
  since DATETIME(6) NOT NULL,
  reason TEXT NOT NULL,
  PRIMARY KEY (device_id, credential_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS parts (
  id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  name VARCHAR(64) NOT NULL,
  last_number INT NOT NULL,
  baseline_id CHAR(16) NOT NULL,
  UNIQUE KEY (device_id, name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS pulls (
  id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  job_id CHAR(16) NOT NULL,
  requested_at DATETIME(6) NOT NULL,
  taken_at DATETIME(6) NULL,
  reason VARCHAR(32) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  dialect_rev INT NOT NULL,
  host VARCHAR(128) NOT NULL,
  model VARCHAR(128) NOT NULL,
  serial VARCHAR(128) NOT NULL,
  software VARCHAR(128) NOT NULL,
  result VARCHAR(16) NOT NULL,
  trouble TEXT NOT NULL,
  KEY (device_id, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Texts, each once, found by a keyed hash. base names the content a delta
-- builds on; empty when the content stands alone.
CREATE TABLE IF NOT EXISTS contents (
  id CHAR(64) NOT NULL PRIMARY KEY,
  size INT NOT NULL,
  format TINYINT NOT NULL,
  base CHAR(64) NOT NULL,
  sealed LONGBLOB NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS versions (
  id CHAR(16) NOT NULL PRIMARY KEY,
  part_id CHAR(16) NOT NULL,
  number INT NOT NULL,
  content_id CHAR(64) NOT NULL,
  pull_id CHAR(16) NOT NULL,
  fingerprint CHAR(64) NOT NULL,
  taken_at DATETIME(6) NOT NULL,
  reason VARCHAR(32) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  author VARCHAR(128) NOT NULL,
  name VARCHAR(64) NULL,
  note TEXT NOT NULL,
  pinned BOOL NOT NULL,
  line_count INT NOT NULL,
  added INT NOT NULL,
  removed INT NOT NULL,
  dialect_rev INT NOT NULL,
  UNIQUE KEY (part_id, number),
  UNIQUE KEY (part_id, name),
  KEY (content_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- When a version was seen: from its first pull to the last one that found it
-- unchanged. A failed pull closes the interval, so that a gap stays visible.
CREATE TABLE IF NOT EXISTS seen (
  version_id CHAR(16) NOT NULL,
  from_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL,
  open BOOL NOT NULL,
  sightings INT NOT NULL,
  PRIMARY KEY (version_id, from_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS jobs (
  id CHAR(16) NOT NULL PRIMARY KEY,
  kind VARCHAR(16) NOT NULL,
  device_id CHAR(16) NOT NULL,
  device VARCHAR(64) NOT NULL,
  state VARCHAR(16) NOT NULL,
  outcome VARCHAR(16) NOT NULL,
  summary TEXT NOT NULL,
  actor VARCHAR(64) NOT NULL,
  actor_id CHAR(16) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  started_at DATETIME(6) NULL,
  ended_at DATETIME(6) NULL,
  cancel BOOL NOT NULL,
  node VARCHAR(32) NOT NULL,
  life VARCHAR(32) NOT NULL,
  tries INT NOT NULL,
  undo_of CHAR(16) NOT NULL,
  idem_key VARCHAR(128) NULL,
  request BLOB NOT NULL,
  result MEDIUMBLOB NOT NULL,
  UNIQUE KEY (idem_key),
  KEY (state, id),
  KEY (device_id, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS job_log (
  job_id CHAR(16) NOT NULL,
  seq INT NOT NULL,
  sealed MEDIUMBLOB NOT NULL,
  PRIMARY KEY (job_id, seq)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS previews (
  id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  job_id CHAR(16) NOT NULL,
  hash CHAR(64) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  sealed MEDIUMBLOB NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- How far a push has come. announced is written before the line is sent.
CREATE TABLE IF NOT EXISTS pushes (
  job_id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  preview_id CHAR(16) NOT NULL,
  before_id CHAR(16) NOT NULL,
  phase VARCHAR(16) NOT NULL,
  total INT NOT NULL,
  announced INT NOT NULL,
  answered INT NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- An open push's hold on a device. It has no expiry.
CREATE TABLE IF NOT EXISTS claims (
  device_id CHAR(16) NOT NULL PRIMARY KEY,
  job_id CHAR(16) NOT NULL,
  since DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Who talks to a device now. fence grows with every holder.
CREATE TABLE IF NOT EXISTS leases (
  device_id CHAR(16) NOT NULL PRIMARY KEY,
  fence BIGINT NOT NULL,
  job_id CHAR(16) NOT NULL,
  node VARCHAR(32) NOT NULL,
  life VARCHAR(32) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS nodes (
  id VARCHAR(32) NOT NULL PRIMARY KEY,
  life VARCHAR(32) NOT NULL,
  beat BIGINT NOT NULL,
  at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS audit (
  seq BIGINT NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  action VARCHAR(64) NOT NULL,
  object VARCHAR(255) NOT NULL,
  detail TEXT NOT NULL,
  mac CHAR(64) NOT NULL,
  KEY (object)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- The end of the audit log, so that a log cut short shows.
CREATE TABLE IF NOT EXISTS audit_end (
  id INT NOT NULL PRIMARY KEY,
  seq BIGINT NOT NULL,
  mac CHAR(64) NOT NULL,
  proof CHAR(64) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
