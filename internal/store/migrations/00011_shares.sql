-- +goose Up
CREATE TABLE IF NOT EXISTS shares (
  id char(26) NOT NULL PRIMARY KEY,
  hash binary(32) NOT NULL UNIQUE COMMENT 'of what stands in the link',
  workspace_id char(26) NOT NULL,
  run_id char(26) NOT NULL,
  work_id char(26) NOT NULL DEFAULT '' COMMENT 'of one leg alone; empty: the whole run',
  without varchar(100) NOT NULL DEFAULT '' COMMENT 'what is left out: logs, network',
  expires datetime(3) NOT NULL,
  withdrawn datetime(3) NULL,
  views int NOT NULL DEFAULT 0,
  made_by varchar(64) NOT NULL COMMENT 'the name of the key',
  created datetime(3) NOT NULL,
  KEY of_run (workspace_id, run_id, id)
) COMMENT 'links to runs for people who have no key';
