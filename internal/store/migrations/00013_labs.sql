-- +goose Up
ALTER TABLE attempts ADD COLUMN IF NOT EXISTS loan json NULL COMMENT 'of a device that its lab lent: the lab, its session, its page about it';
CREATE TABLE IF NOT EXISTS run_builds (
  run_id char(26) NOT NULL,
  build_id char(26) NOT NULL,
  PRIMARY KEY (build_id, run_id),
  KEY of_run (run_id)
) COMMENT 'builds that runs gave to devices of other platforms than that of their own build';
