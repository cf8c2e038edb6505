-- +goose Up
-- What a job brought, what a pull did, and what ended when: asked for whenever something is deleted.
ALTER TABLE versions ADD KEY IF NOT EXISTS by_pull (pull_id);
ALTER TABLE pulls
  ADD KEY IF NOT EXISTS by_job (job_id),
  ADD KEY IF NOT EXISTS by_result (result, requested_at);
ALTER TABLE jobs ADD KEY IF NOT EXISTS by_end (state, ended_at);

-- +goose Down
SELECT 1;
