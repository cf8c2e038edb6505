-- +goose Up
-- States of devices and outcomes of pushes have the trade's words.
UPDATE devices SET state = CASE state WHEN 'steady' THEN 'in sync' WHEN 'other hardware' THEN 'hardware changed'
  WHEN 'in factory state' THEN 'factory defaults' WHEN 'refused login' THEN 'login refused' WHEN 'failing' THEN 'pull failing' ELSE state END
  WHERE state IN ('steady', 'other hardware', 'in factory state', 'refused login', 'failing');
UPDATE versions SET aside = IF(aside = 'other hardware', 'hardware changed', 'factory defaults') WHERE aside IN ('other hardware', 'in factory state');
UPDATE jobs SET outcome = 'verified' WHERE outcome = 'equal';
UPDATE schedules SET selector = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(selector, 'state=steady', 'state=in-sync'), 'state=other-hardware', 'state=hardware-changed'),
  'state=in-factory-state', 'state=factory-defaults'), 'state=refused-login', 'state=login-refused'), 'state=failing', 'state=pull-failing') WHERE selector LIKE '%state=%';
UPDATE tell_rules SET selector = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(selector, 'state=steady', 'state=in-sync'), 'state=other-hardware', 'state=hardware-changed'),
  'state=in-factory-state', 'state=factory-defaults'), 'state=refused-login', 'state=login-refused'), 'state=failing', 'state=pull-failing') WHERE selector LIKE '%state=%';
UPDATE own_rules SET kind = CASE kind WHEN 'noise' THEN 'ignored' WHEN 'must' THEN 'required' WHEN 'must-not' THEN 'forbidden'
  WHEN 'differs' THEN 'per-device' WHEN 'model' THEN 'template' ELSE kind END WHERE kind IN ('noise', 'must', 'must-not', 'differs', 'model');
UPDATE versions SET reason = 'change trigger' WHERE reason = 'change notice';
UPDATE pulls SET reason = 'change trigger' WHERE reason = 'change notice';
UPDATE jobs SET kind = 'discovery' WHERE kind = 'sweep';

-- +goose Down
SELECT 1;
