-- +goose Up
ALTER TABLE attempts ADD COLUMN IF NOT EXISTS loan json NULL COMMENT 'of a device that its lab lent: the lab, its session, its page about it';
CREATE TABLE IF NOT EXISTS run_builds (
  run_id char(26) NOT NULL,
  build_id char(26) NOT NULL,
  PRIMARY KEY (build_id, run_id),
  KEY of_run (run_id)
) COMMENT 'builds that runs gave to devices of other platforms than that of their own build';
CREATE TABLE IF NOT EXISTS lendings (
  workspace_id char(26) NOT NULL PRIMARY KEY,
  pool varchar(64) NOT NULL COMMENT 'whose devices are lent, by its name in the workspace',
  at_once int NOT NULL COMMENT 'sessions that a borrower may have open; 0: one for each device'
) COMMENT 'what workspaces lend to other installations';
