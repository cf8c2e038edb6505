-- +goose Up
-- Devices of which somebody said that their configuration changed, until they are pulled.
CREATE TABLE IF NOT EXISTS notices (
  device_id CHAR(16) NOT NULL PRIMARY KEY,
  first_at DATETIME(6) NOT NULL,
  last_at DATETIME(6) NOT NULL,
  author VARCHAR(128) NOT NULL,
  inlet VARCHAR(32) NOT NULL,
  said INT NOT NULL,
  KEY (last_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
