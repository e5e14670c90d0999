-- +goose Up
CREATE TABLE IF NOT EXISTS looks (
  attempt_id char(26) NOT NULL PRIMARY KEY,
  version int NOT NULL COMMENT 'of the way in which it was read',
  run_id char(26) NOT NULL,
  work_id char(26) NOT NULL,
  device_id char(26) NOT NULL,
  build_id char(26) NOT NULL,
  subject binary(8) NOT NULL COMMENT 'hash of workspace, app and package',
  conditions varchar(2000) NOT NULL,
  steps longtext NOT NULL COMMENT 'as JSON: of the last try of each case, and where their looks lie in looks.jsonl',
  remarks longtext NOT NULL COMMENT 'as JSON',
  measures longtext NOT NULL COMMENT 'as JSON',
  KEY of_run (run_id),
  KEY before_it (subject, device_id, run_id)
) COMMENT 'what attempts that are over showed step by step';
CREATE TABLE IF NOT EXISTS step_references (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  slug varchar(255) NOT NULL,
  platform varchar(16) NOT NULL,
  package_name varchar(255) NOT NULL,
  spot binary(16) NOT NULL COMMENT 'hash of app, package, case, step, number and kind of device',
  case_name varchar(512) NOT NULL,
  step varchar(1024) NOT NULL,
  nth int NOT NULL,
  kind varchar(500) NOT NULL COMMENT 'of device',
  model varchar(255) NOT NULL COMMENT 'maker and model',
  blob_key varchar(255) NOT NULL,
  sha256 char(64) NOT NULL,
  width int NOT NULL,
  height int NOT NULL,
  masks json NOT NULL COMMENT 'rectangles in pixels that are not looked at',
  allowed double NOT NULL COMMENT 'the share of the picture that may differ',
  run_id char(26) NOT NULL COMMENT 'where it is from',
  work_id char(26) NOT NULL,
  made_by varchar(64) NOT NULL COMMENT 'the name of the key',
  created datetime(3) NOT NULL,
  ended datetime(3) NULL COMMENT 'when it was taken away, or another took its place',
  KEY listed (workspace_id, ended, id),
  KEY of_model (workspace_id, model),
  KEY at_spot (workspace_id, spot, ended)
) COMMENT 'pictures of steps that later ones are held against';
ALTER TABLE runs ADD COLUMN IF NOT EXISTS looked int NOT NULL DEFAULT 0 COMMENT 'the version in which its attempts were read step by step; 0: they were not', ADD KEY IF NOT EXISTS unlooked (looked, ended);
