-- +goose Up
CREATE TABLE IF NOT EXISTS signins (
  hash binary(32) NOT NULL PRIMARY KEY,
  kind varchar(8) NOT NULL COMMENT 'browser, or a ticket that works once',
  key_id char(26) NOT NULL,
  created datetime(3) NOT NULL,
  expires datetime(3) NOT NULL,
  KEY (expires),
  FOREIGN KEY (key_id) REFERENCES access_keys (id) ON DELETE CASCADE
);
ALTER TABLE runs ADD KEY IF NOT EXISTS of_build (workspace_id, build_id, id), ADD KEY IF NOT EXISTS of_package (workspace_id, package_id, id), ADD KEY IF NOT EXISTS ended (ended);
ALTER TABLE legs ADD KEY IF NOT EXISTS on_device (device_id, id);
