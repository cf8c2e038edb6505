-- +goose Up
-- What is done by itself, time after time. next_at is when it is due next; none: it is
-- paused, or over.
CREATE TABLE IF NOT EXISTS schedules (
  id CHAR(16) NOT NULL PRIMARY KEY,
  name VARCHAR(64) NOT NULL,
  rule VARCHAR(255) NOT NULL,
  zone VARCHAR(64) NOT NULL,
  from_at DATETIME(6) NOT NULL,
  deeds TEXT NOT NULL,
  selector VARCHAR(255) NOT NULL,
  spread_s INT NOT NULL,
  blackouts TEXT NOT NULL,
  paused BOOL NOT NULL,
  note TEXT NOT NULL,
  made_by VARCHAR(64) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  changed_by VARCHAR(64) NOT NULL,
  changed_by_id CHAR(16) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  next_at DATETIME(6) NULL,
  UNIQUE KEY (name),
  KEY (next_at)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Each time that a schedule was due, once: the job that did it, or why nothing was done.
CREATE TABLE IF NOT EXISTS schedule_runs (
  schedule_id CHAR(16) NOT NULL,
  due_at DATETIME(6) NOT NULL,
  schedule VARCHAR(64) NOT NULL,
  job_id CHAR(16) NOT NULL,
  missed INT NOT NULL,
  why VARCHAR(255) NOT NULL,
  PRIMARY KEY (schedule_id, due_at),
  KEY (due_at),
  KEY (job_id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- The job that began a job.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS part_of CHAR(16) NOT NULL DEFAULT '',
  ADD KEY IF NOT EXISTS (part_of, state);

-- +goose Down
SELECT 1;
