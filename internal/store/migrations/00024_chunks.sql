-- +goose Up
-- Large contents are kept in pieces, cut where their own bytes say, so that two that are alike
-- share most of them. A piece that no content has is one of a file that was still coming.
CREATE TABLE IF NOT EXISTS chunks (
  id CHAR(64) NOT NULL PRIMARY KEY,
  size INT NOT NULL,
  sealed LONGBLOB NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY (at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE IF NOT EXISTS content_chunks (
  content_id CHAR(64) NOT NULL,
  seq INT NOT NULL,
  chunk_id CHAR(64) NOT NULL,
  PRIMARY KEY (content_id, seq),
  KEY (chunk_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

ALTER TABLE contents MODIFY COLUMN size BIGINT NOT NULL;

-- +goose Down
SELECT 1;
