-- +goose Up
-- What answered where no device is registered: proposals, until a person accepts or dismisses
-- them.
CREATE TABLE IF NOT EXISTS proposals (
  id CHAR(16) NOT NULL PRIMARY KEY,
  address VARCHAR(64) NOT NULL,
  port INT NOT NULL,
  transport VARCHAR(16) NOT NULL,
  host_key VARCHAR(2048) NOT NULL,
  says VARCHAR(255) NOT NULL,
  found_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL,
  dismissed_at DATETIME(6) NULL,
  UNIQUE KEY proposals_by_place (address, port)
);

-- +goose Down
SELECT 1;
