-- +goose Up
-- What a fingerprint is made of changed: every dialect's are worked out anew at the next start, so that no device
-- seems to have changed.
UPDATE dialects SET settled = FALSE;

-- +goose Down
SELECT 1;
