-- +goose Up
-- Further names of versions: what is asked for by name before a change stays found by it, even if
-- nothing had changed since it was last named. versions.name is the newest.
CREATE TABLE IF NOT EXISTS version_names (
  part_id CHAR(16) NOT NULL,
  name VARCHAR(64) NOT NULL,
  version_id CHAR(16) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  given_at DATETIME(6) NOT NULL,
  PRIMARY KEY (part_id, name),
  KEY (version_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
