-- +goose Up
-- A selector that is kept may name as many devices as one that is used at once.
ALTER TABLE credentials MODIFY selector MEDIUMTEXT NOT NULL DEFAULT '';
ALTER TABLE snapshots MODIFY selector MEDIUMTEXT NOT NULL;
ALTER TABLE schedules MODIFY selector MEDIUMTEXT NOT NULL;
ALTER TABLE tell_rules MODIFY selector MEDIUMTEXT NOT NULL;
ALTER TABLE retention MODIFY selector MEDIUMTEXT NOT NULL;
ALTER TABLE own_rules MODIFY selector MEDIUMTEXT NOT NULL;
ALTER TABLE users MODIFY scope MEDIUMTEXT NOT NULL DEFAULT '';
ALTER TABLE tokens MODIFY scope MEDIUMTEXT NOT NULL DEFAULT '';
-- The audit log says them, as they are and as they were.
ALTER TABLE audit MODIFY detail MEDIUMTEXT NOT NULL;
-- A text has no key of its own: that nothing stands twice goes by its hash.
ALTER TABLE approvals DROP KEY IF EXISTS selector, MODIFY selector MEDIUMTEXT NOT NULL,
  ADD COLUMN IF NOT EXISTS selector_hash BINARY(32) AS (UNHEX(SHA2(selector, 256))) PERSISTENT, ADD UNIQUE KEY IF NOT EXISTS selector_hash (selector_hash);

-- +goose Down
ALTER TABLE approvals DROP KEY IF EXISTS selector_hash, DROP COLUMN IF EXISTS selector_hash, MODIFY selector VARCHAR(255) NOT NULL, ADD UNIQUE KEY IF NOT EXISTS selector (selector);
ALTER TABLE audit MODIFY detail TEXT NOT NULL;
ALTER TABLE tokens MODIFY scope VARCHAR(255) NOT NULL DEFAULT '';
ALTER TABLE users MODIFY scope VARCHAR(255) NOT NULL DEFAULT '';
ALTER TABLE own_rules MODIFY selector TEXT NOT NULL;
ALTER TABLE retention MODIFY selector VARCHAR(255) NOT NULL;
ALTER TABLE tell_rules MODIFY selector VARCHAR(255) NOT NULL;
ALTER TABLE schedules MODIFY selector VARCHAR(255) NOT NULL;
ALTER TABLE snapshots MODIFY selector VARCHAR(255) NOT NULL;
ALTER TABLE credentials MODIFY selector VARCHAR(255) NOT NULL DEFAULT '';
