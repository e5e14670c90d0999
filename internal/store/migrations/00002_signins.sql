-- +goose Up
CREATE TABLE signins (
  hash binary(32) NOT NULL PRIMARY KEY,
  kind varchar(8) NOT NULL COMMENT 'browser, or a ticket that works once',
  key_id char(26) NOT NULL,
  created datetime(3) NOT NULL,
  expires datetime(3) NOT NULL,
  KEY (expires),
  FOREIGN KEY (key_id) REFERENCES access_keys (id) ON DELETE CASCADE
);
ALTER TABLE runs ADD KEY (workspace_id, build_id, id), ADD KEY (workspace_id, package_id, id), ADD KEY (ended);
ALTER TABLE legs ADD KEY (device_id, id);
