-- +goose Up
-- How many bytes a text takes, sealed: added up from an index, without reading the texts.
ALTER TABLE contents
  ADD COLUMN IF NOT EXISTS bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
  ADD INDEX IF NOT EXISTS contents_by_bytes (bytes);
UPDATE contents SET bytes = LENGTH(sealed) WHERE bytes = 0;

-- +goose Down
SELECT 1;
