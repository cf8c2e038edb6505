-- +goose Up
-- Machines that lend their network reach to the pushes of one device. The
-- connection itself is a node's; a row is gone when it is.
CREATE TABLE IF NOT EXISTS relays (
  id CHAR(16) NOT NULL PRIMARY KEY,
  device_id CHAR(16) NOT NULL,
  node VARCHAR(32) NOT NULL,
  life VARCHAR(32) NOT NULL,
  actor_id CHAR(16) NOT NULL,
  actor VARCHAR(64) NOT NULL,
  address VARCHAR(255) NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL,
  KEY (device_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
SELECT 1;
