-- +goose Up
-- What happened and was not yet looked at by those who tell people.
CREATE TABLE IF NOT EXISTS events (
  id CHAR(16) NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  kind VARCHAR(32) NOT NULL,
  device_id CHAR(16) NOT NULL,
  device VARCHAR(64) NOT NULL,
  job_id CHAR(16) NOT NULL,
  body BLOB NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Who can be told, and by what way; its secrets are sealed. audit_seq is the last row of
-- the audit log that was sent there; none: the log is not.
CREATE TABLE IF NOT EXISTS recipients (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  kind VARCHAR(16) NOT NULL,
  body BLOB NOT NULL,
  audit_seq BIGINT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Of what people are told.
CREATE TABLE IF NOT EXISTS tell_rules (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  events VARCHAR(255) NOT NULL,
  selector VARCHAR(255) NOT NULL,
  recipients TEXT NOT NULL,
  days INT NOT NULL,
  digest VARCHAR(255) NOT NULL,
  zone VARCHAR(64) NOT NULL,
  quiet TEXT NOT NULL,
  from_at DATETIME(6) NOT NULL,
  paused BOOL NOT NULL,
  note TEXT NOT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What a rule has to tell of or did, once each. batch is what it was told with.
CREATE TABLE IF NOT EXISTS tellings (
  rule_id CHAR(16) NOT NULL,
  about VARCHAR(96) NOT NULL,
  at DATETIME(6) NOT NULL,
  event VARCHAR(32) NOT NULL,
  device_id CHAR(16) NOT NULL,
  device VARCHAR(64) NOT NULL,
  job_id CHAR(16) NOT NULL,
  batch CHAR(16) NOT NULL,
  body BLOB NOT NULL,
  PRIMARY KEY (rule_id, about),
  KEY (batch, rule_id, at),
  KEY (at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What is to be sent, and was. handed: it was being handed over when the last try ended.
CREATE TABLE IF NOT EXISTS messages (
  id CHAR(16) NOT NULL PRIMARY KEY,
  rule VARCHAR(64) NOT NULL,
  recipient_id CHAR(16) NOT NULL,
  recipient VARCHAR(64) NOT NULL,
  address VARCHAR(255) NOT NULL,
  batch CHAR(16) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  state VARCHAR(16) NOT NULL,
  next_at DATETIME(6) NULL,
  tries INT NOT NULL,
  handed BOOL NOT NULL,
  ended_at DATETIME(6) NULL,
  trouble VARCHAR(512) NOT NULL,
  body MEDIUMBLOB NOT NULL,
  KEY (next_at),
  KEY (made_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What the whole service is set to; sealed.
CREATE TABLE IF NOT EXISTS settings (
  name VARCHAR(32) NOT NULL PRIMARY KEY,
  body BLOB NOT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
