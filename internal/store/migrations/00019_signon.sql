-- +goose Up
-- By whom somebody is known to the provider that signs them in (OpenID Connect: its issuer and
-- their subject); empty: they sign in here.
ALTER TABLE users
  ADD COLUMN IF NOT EXISTS subject VARCHAR(512) NULL,
  ADD UNIQUE INDEX IF NOT EXISTS users_by_subject (subject);

-- +goose Down
SELECT 1;
