-- +goose Up
ALTER TABLE access_keys
  ADD COLUMN IF NOT EXISTS expires datetime(3) NULL,
  ADD COLUMN IF NOT EXISTS withdrawn datetime(3) NULL,
  ADD COLUMN IF NOT EXISTS used datetime(3) NULL COMMENT 'to the minute',
  ADD COLUMN IF NOT EXISTS made_by char(26) NOT NULL DEFAULT '' COMMENT 'the key with which it was made; empty: the service itself';
-- Until now an owner of any workspace could do what only an operator may now. The oldest owner's key is the one that the service made first: whoever runs the service has it.
UPDATE access_keys k JOIN (SELECT min(id) AS id, sum(role = 'operator') AS operators FROM access_keys WHERE role IN ('owner', 'operator')) f ON f.id = k.id
  SET k.role = 'operator' WHERE f.operators = 0;
ALTER TABLE artifacts ADD COLUMN IF NOT EXISTS assembled tinyint NOT NULL DEFAULT 0 COMMENT 'put together from the parts of an attempt that was lost: the whole may still come';
ALTER TABLE attempts ADD COLUMN IF NOT EXISTS handed_bytes bigint NOT NULL DEFAULT 0 COMMENT 'what its host has handed in, also twice', ADD COLUMN IF NOT EXISTS handed_pieces int NOT NULL DEFAULT 0;
ALTER TABLE workspaces ADD COLUMN IF NOT EXISTS other_apps tinyint NOT NULL DEFAULT 0 COMMENT 'sessions may stop and clear apps that were not installed for them';
ALTER TABLE run_secrets MODIFY value mediumtext NOT NULL COMMENT 'sealed: core/envelope';
CREATE TABLE IF NOT EXISTS secret_keys (
  one tinyint NOT NULL PRIMARY KEY DEFAULT 1,
  id varchar(16) NOT NULL COMMENT 'of the key that seals secret inputs: of its hash'
) COMMENT 'all processes of a service have one key';
