-- +goose Up
ALTER TABLE legs
  MODIFY run_id char(26) NULL COMMENT 'null: it is a session of the same id',
  MODIFY device_id char(26) NULL COMMENT 'null: a session that has none yet';
CREATE TABLE IF NOT EXISTS sessions (
  id char(26) NOT NULL PRIMARY KEY COMMENT 'its leg has the same',
  workspace_id char(26) NOT NULL,
  token binary(32) NOT NULL UNIQUE COMMENT 'hash of the id that goes over the wire',
  build_id char(26) NULL,
  label varchar(100) NOT NULL COMMENT 'the group it is listed in',
  name varchar(200) NOT NULL,
  request json NOT NULL,
  how varchar(16) NOT NULL DEFAULT '' COMMENT 'it ended',
  seen varchar(16) NOT NULL DEFAULT '' COMMENT 'verdict by what was seen',
  seen_message text NOT NULL DEFAULT '',
  marked varchar(16) NOT NULL DEFAULT '' COMMENT 'verdict that somebody gave the whole',
  marked_message text NOT NULL DEFAULT '',
  inferred tinyint NOT NULL DEFAULT 0,
  created datetime(3) NOT NULL,
  KEY (workspace_id, id),
  KEY (workspace_id, label, id),
  FOREIGN KEY (id) REFERENCES legs (id),
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id),
  FOREIGN KEY (build_id) REFERENCES builds (id)
);
ALTER TABLE cases ADD COLUMN IF NOT EXISTS source varchar(8) NOT NULL DEFAULT '' COMMENT 'run (empty), marked by the client, or report';
ALTER TABLE packages ADD COLUMN IF NOT EXISTS program json NOT NULL DEFAULT 'null' COMMENT 'of the kind program: what it declares';
ALTER TABLE hosts ADD COLUMN IF NOT EXISTS about json NOT NULL DEFAULT '{}' COMMENT 'isolation of programs, runtimes';
ALTER TABLE workspaces ADD COLUMN IF NOT EXISTS program_network tinyint NOT NULL DEFAULT 0 COMMENT 'programs of packages may use the network';
