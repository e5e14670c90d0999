-- +goose Up
CREATE TABLE IF NOT EXISTS bisections (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  request json NOT NULL,
  builds json NOT NULL COMMENT 'ids in the order of their uploads: the first is good, the last is bad',
  probes json NOT NULL DEFAULT '[]',
  probing int NULL COMMENT 'the build that is tried now',
  run_id char(26) NOT NULL DEFAULT '' COMMENT 'in which',
  state varchar(16) NOT NULL DEFAULT 'going' COMMENT 'going, found, unsure, halted or given_up',
  why text NOT NULL DEFAULT '',
  alarm double NOT NULL COMMENT 'how often the case is known to fail for no reason',
  started_by varchar(64) NOT NULL COMMENT 'the name of the key',
  asked_by char(26) NOT NULL,
  created datetime(3) NOT NULL,
  ended datetime(3) NULL,
  waits datetime(3) NULL COMMENT 'since when the next try can not be started: its device is away',
  KEY listed (workspace_id, id),
  KEY going (state, id)
);
ALTER TABLE run_secrets DROP FOREIGN KEY IF EXISTS run_secrets_ibfk_1;
