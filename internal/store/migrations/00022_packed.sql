-- +goose Up
-- How many steps it takes to read a content back; what is packed against another names that as
-- its base. touched is counted up when something is built on a content, so that on a cluster
-- nobody else takes it away at the same moment.
ALTER TABLE contents
  ADD COLUMN IF NOT EXISTS touched INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS depth TINYINT UNSIGNED NOT NULL DEFAULT 0,
  ADD INDEX IF NOT EXISTS contents_by_base (base);

-- What a scrub found damaged: a content that does not read back as it was kept.
CREATE TABLE IF NOT EXISTS damage (
  content_id CHAR(64) NOT NULL PRIMARY KEY,
  found_at DATETIME(6) NOT NULL,
  why VARCHAR(255) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- For how long versions stay. The policy that matches a device and stands first holds; the last,
-- for all, always does.
CREATE TABLE IF NOT EXISTS retention (
  name VARCHAR(64) NOT NULL PRIMARY KEY,
  place INT NOT NULL,
  selector VARCHAR(255) NOT NULL,
  newest INT NOT NULL,
  by_hand INT NOT NULL,
  daily INT NOT NULL,
  weekly INT NOT NULL,
  monthly INT NOT NULL,
  note TEXT NOT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

INSERT IGNORE INTO guards (name, n) VALUES ('retention', 0);

-- +goose Down
SELECT 1;
