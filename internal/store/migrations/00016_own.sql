-- +goose Up
-- Whether somebody has to choose a password of their own first; the one-time codes (RFC 6238)
-- that a sign-in takes besides, the step that was used last, and codes for the day on which
-- the device that makes them is lost.
ALTER TABLE users
  ADD COLUMN IF NOT EXISTS must_change BOOL NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS totp BLOB NULL,
  ADD COLUMN IF NOT EXISTS totp_on BOOL NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS totp_step BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS recovery TEXT NULL;

-- A token may be for less than its user may: up to a role, without secrets.
ALTER TABLE tokens
  ADD COLUMN IF NOT EXISTS role VARCHAR(16) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS masked BOOL NOT NULL DEFAULT FALSE;

-- +goose Down
SELECT 1;
