-- +goose Up
CREATE TABLE IF NOT EXISTS workspaces (
  id char(26) NOT NULL PRIMARY KEY,
  name varchar(64) NOT NULL UNIQUE,
  created datetime(3) NOT NULL
);
CREATE TABLE IF NOT EXISTS access_keys (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  role varchar(16) NOT NULL,
  name varchar(64) NOT NULL,
  hash binary(32) NOT NULL UNIQUE,
  created datetime(3) NOT NULL,
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id)
);
CREATE TABLE IF NOT EXISTS builds (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  slug varchar(255) NOT NULL,
  platform varchar(16) NOT NULL,
  app_id varchar(255) NOT NULL,
  version_name varchar(255) NOT NULL,
  version_code bigint NOT NULL,
  facts json NOT NULL,
  size bigint NOT NULL,
  sha256 char(64) NOT NULL,
  filename varchar(255) NOT NULL,
  blob_key varchar(255) NOT NULL,
  icon_key varchar(255) NOT NULL,
  created datetime(3) NOT NULL,
  UNIQUE KEY (workspace_id, sha256),
  KEY (workspace_id, slug, platform, id),
  KEY (workspace_id, id),
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id)
);
CREATE TABLE IF NOT EXISTS packages (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  name varchar(64) NOT NULL,
  revision int NOT NULL,
  kind varchar(16) NOT NULL,
  about text NOT NULL,
  cases json NOT NULL,
  findings json NOT NULL,
  size bigint NOT NULL,
  sha256 char(64) NOT NULL,
  blob_key varchar(255) NOT NULL,
  created datetime(3) NOT NULL,
  UNIQUE KEY (workspace_id, name, revision),
  UNIQUE KEY (workspace_id, sha256),
  KEY (workspace_id, id),
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id)
);
CREATE TABLE IF NOT EXISTS hosts (
  id char(26) NOT NULL PRIMARY KEY,
  name varchar(64) NOT NULL UNIQUE,
  seen datetime(3) NOT NULL
);
CREATE TABLE IF NOT EXISTS devices (
  id char(26) NOT NULL PRIMARY KEY,
  serial varchar(128) NOT NULL UNIQUE,
  host_id char(26) NOT NULL,
  facts json NOT NULL,
  state varchar(16) NOT NULL COMMENT 'ready, away or unusable',
  why text NOT NULL,
  seen datetime(3) NOT NULL,
  KEY (host_id),
  FOREIGN KEY (host_id) REFERENCES hosts (id)
);
CREATE TABLE IF NOT EXISTS runs (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  build_id char(26) NOT NULL,
  package_id char(26) NOT NULL,
  request json NOT NULL,
  findings json NOT NULL,
  limit_seconds int NOT NULL,
  idempotency_key varchar(100) NULL,
  verdict varchar(16) NOT NULL DEFAULT '',
  created datetime(3) NOT NULL,
  ended datetime(3) NULL,
  UNIQUE KEY (workspace_id, idempotency_key),
  KEY (workspace_id, id),
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id),
  FOREIGN KEY (build_id) REFERENCES builds (id),
  FOREIGN KEY (package_id) REFERENCES packages (id)
);
CREATE TABLE IF NOT EXISTS legs (
  id char(26) NOT NULL PRIMARY KEY,
  run_id char(26) NOT NULL,
  workspace_id char(26) NOT NULL,
  device_id char(26) NOT NULL,
  stage varchar(16) NOT NULL,
  verdict varchar(16) NOT NULL DEFAULT '',
  message text NOT NULL,
  cases_total int NOT NULL,
  created datetime(3) NOT NULL,
  ended datetime(3) NULL,
  KEY (stage, id),
  KEY (run_id, id),
  FOREIGN KEY (run_id) REFERENCES runs (id),
  FOREIGN KEY (device_id) REFERENCES devices (id)
);
CREATE TABLE IF NOT EXISTS attempts (
  id char(26) NOT NULL PRIMARY KEY,
  leg_id char(26) NOT NULL,
  number int NOT NULL,
  device_id char(26) NOT NULL,
  stage varchar(16) NOT NULL,
  verdict varchar(16) NOT NULL DEFAULT '',
  message text NOT NULL,
  now_case varchar(512) NOT NULL DEFAULT '',
  last_report bigint NOT NULL DEFAULT 0,
  clock_doubt_ms int NULL,
  started datetime(3) NOT NULL,
  ended datetime(3) NULL,
  UNIQUE KEY (leg_id, number),
  FOREIGN KEY (leg_id) REFERENCES legs (id)
);
CREATE TABLE IF NOT EXISTS cases (
  attempt_id char(26) NOT NULL,
  ordinal int NOT NULL,
  name varchar(512) NOT NULL,
  verdict varchar(16) NOT NULL DEFAULT '',
  message mediumtext NOT NULL,
  line varchar(512) NOT NULL DEFAULT '',
  expected mediumtext NOT NULL,
  actual mediumtext NOT NULL,
  trace mediumtext NOT NULL,
  shot varchar(255) NOT NULL DEFAULT '',
  tree varchar(255) NOT NULL DEFAULT '',
  start_ms bigint NOT NULL,
  took_ms bigint NOT NULL DEFAULT 0,
  PRIMARY KEY (attempt_id, ordinal),
  FOREIGN KEY (attempt_id) REFERENCES attempts (id)
);
CREATE TABLE IF NOT EXISTS artifacts (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  attempt_id char(26) NOT NULL,
  name varchar(255) NOT NULL,
  kind varchar(16) NOT NULL,
  content_type varchar(100) NOT NULL,
  size bigint NOT NULL,
  sha256 char(64) NOT NULL,
  blob_key varchar(255) NOT NULL,
  UNIQUE KEY (attempt_id, name),
  FOREIGN KEY (attempt_id) REFERENCES attempts (id)
);
CREATE TABLE IF NOT EXISTS holds (
  id char(26) NOT NULL PRIMARY KEY,
  device_id char(26) NOT NULL,
  host_id char(26) NOT NULL,
  kind varchar(16) NOT NULL,
  workspace_id char(26) NOT NULL,
  run_id char(26) NOT NULL,
  leg_id char(26) NOT NULL,
  attempt_id char(26) NOT NULL,
  epoch int NOT NULL,
  created datetime(3) NOT NULL,
  expires datetime(3) NOT NULL,
  ended datetime(3) NULL,
  active tinyint AS (IF(ended IS NULL, 1, NULL)) STORED,
  UNIQUE KEY one_active_hold_a_device (device_id, active),
  KEY (active, expires),
  FOREIGN KEY (device_id) REFERENCES devices (id),
  FOREIGN KEY (attempt_id) REFERENCES attempts (id)
);
CREATE TABLE IF NOT EXISTS leases (
  name varchar(32) NOT NULL PRIMARY KEY,
  holder char(26) NOT NULL,
  expires datetime(3) NOT NULL
);
