-- +goose Up
-- state: all that decides what comes next for a push, as JSON. It holds no
-- configuration text. NULL: left by a program that kept none.
ALTER TABLE pushes
  ADD COLUMN IF NOT EXISTS state TEXT NULL;

-- The words of the field: an instance and its incarnation, a breaker that is open.
RENAME TABLE IF EXISTS nodes TO instances;
ALTER TABLE instances RENAME COLUMN IF EXISTS life TO incarnation;
ALTER TABLE jobs
  RENAME COLUMN IF EXISTS node TO instance,
  RENAME COLUMN IF EXISTS life TO incarnation,
  RENAME COLUMN IF EXISTS for_node TO for_instance;
ALTER TABLE leases
  RENAME COLUMN IF EXISTS node TO instance,
  RENAME COLUMN IF EXISTS life TO incarnation;
ALTER TABLE relays
  RENAME COLUMN IF EXISTS node TO instance,
  RENAME COLUMN IF EXISTS life TO incarnation;
ALTER TABLE credentials
  RENAME COLUMN IF EXISTS shut_since TO breaker_since,
  RENAME COLUMN IF EXISTS shut_reason TO breaker_reason;
UPDATE jobs SET kind = 'restore-preview' WHERE kind = 'survey';
UPDATE jobs SET kind = 'restore-test' WHERE kind = 'drill';
UPDATE jobs SET outcome = 'differs' WHERE outcome = 'residuals';
UPDATE versions SET reason = 'first pull' WHERE reason = 'first contact';
UPDATE pulls SET reason = 'first pull' WHERE reason = 'first contact';
UPDATE swaps SET outcome = 'differs' WHERE outcome = 'residuals';

-- +goose Down
SELECT 1;
