-- +goose Up
-- A model text, sealed, of a rule that says what devices have to have.
ALTER TABLE own_rules ADD COLUMN IF NOT EXISTS body MEDIUMBLOB NULL;

-- +goose Down
SELECT 1;
