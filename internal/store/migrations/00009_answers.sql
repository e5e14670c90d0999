-- +goose Up
CREATE TABLE IF NOT EXISTS results (
  subject binary(8) NOT NULL COMMENT 'hash of workspace, app, package and case',
  run_id char(26) NOT NULL,
  work_id char(26) NOT NULL,
  device_id char(26) NOT NULL,
  build_id char(26) NOT NULL,
  attempt_id char(26) NOT NULL,
  variant varchar(40) NOT NULL,
  conditions varchar(2000) NOT NULL,
  verdict varchar(16) NOT NULL,
  signature char(16) NOT NULL DEFAULT '' COMMENT 'of its first failure',
  took_ms bigint NOT NULL DEFAULT 0,
  PRIMARY KEY (subject, run_id, work_id)
) COMMENT 'how each case came out in runs that are over: lies by case, to be read as its history';
CREATE TABLE IF NOT EXISTS tallies (
  subject binary(8) NOT NULL,
  run_id char(26) NOT NULL,
  judged int NOT NULL COMMENT 'passed, failed, crashed, expired or flaky',
  bad int NOT NULL COMMENT 'failed, crashed or expired',
  flaky int NOT NULL,
  PRIMARY KEY (subject, run_id)
) COMMENT 'results, counted by run';
CREATE TABLE IF NOT EXISTS families (
  run_id char(26) NOT NULL,
  signature char(16) NOT NULL,
  family char(16) NOT NULL COMMENT 'into which it was taken',
  workspace_id char(26) NOT NULL,
  slug varchar(255) NOT NULL,
  platform varchar(16) NOT NULL,
  build_id char(26) NOT NULL,
  PRIMARY KEY (run_id, signature),
  KEY history (workspace_id, slug, platform, signature, run_id)
) COMMENT 'in which runs a signature was seen';
CREATE TABLE IF NOT EXISTS answers (
  run_id char(26) NOT NULL PRIMARY KEY,
  version int NOT NULL COMMENT 'of the way in which it was found',
  sentence text NOT NULL,
  answer longtext NOT NULL
) COMMENT 'what runs that are over say';
CREATE TABLE IF NOT EXISTS marks (
  workspace_id char(26) NOT NULL,
  slug varchar(255) NOT NULL,
  platform varchar(16) NOT NULL,
  family char(16) NOT NULL,
  kind varchar(16) NOT NULL COMMENT 'known, not_app or wrong_test',
  reference varchar(500) NOT NULL,
  note varchar(2000) NOT NULL,
  until datetime(3) NULL,
  signatures json NOT NULL COMMENT 'ids, of the family when it was marked',
  likes json NOT NULL DEFAULT '[]' COMMENT 'the signatures themselves: what is nearly the same is known, too',
  title varchar(500) NOT NULL,
  made_by varchar(64) NOT NULL COMMENT 'the name of the key',
  created datetime(3) NOT NULL,
  ended datetime(3) NULL COMMENT 'when it was taken away, or another took its place',
  PRIMARY KEY (workspace_id, slug, platform, family, created)
) COMMENT 'what people say of families';
ALTER TABLE work ADD COLUMN IF NOT EXISTS counts varchar(16) NOT NULL DEFAULT '' COMMENT 'its verdict without what is known, where that is another';
ALTER TABLE runs ADD COLUMN IF NOT EXISTS told int NOT NULL DEFAULT 0 COMMENT 'the version of its answer; 0: there is none', ADD KEY IF NOT EXISTS untold (told, ended);
