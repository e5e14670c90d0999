-- +goose Up
ALTER TABLE packages ADD COLUMN inputs json NOT NULL DEFAULT '[]';
ALTER TABLE runs ADD COLUMN stopped datetime(3) NULL;
ALTER TABLE cases ADD COLUMN tries json NOT NULL DEFAULT '[]' COMMENT 'where there was more than one';
ALTER TABLE legs ADD COLUMN stop tinyint NOT NULL DEFAULT 0 COMMENT 'a person wants it to end';
ALTER TABLE devices
  ADD COLUMN lost_in_row int NOT NULL DEFAULT 0 COMMENT 'attempts lost on it since the last that was not',
  ADD COLUMN quarantined datetime(3) NULL,
  ADD COLUMN quarantine_why text NOT NULL DEFAULT '',
  ADD COLUMN quarantine_by varchar(8) NOT NULL DEFAULT '' COMMENT 'itself, or hand: then only a hand releases it';
CREATE TABLE run_secrets (
  run_id char(26) NOT NULL,
  name varchar(63) NOT NULL,
  value text NOT NULL,
  PRIMARY KEY (run_id, name),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
) COMMENT 'deleted when the run is over';
ALTER TABLE hosts
  ADD COLUMN key_hash binary(32) NULL UNIQUE COMMENT 'of a host that joins from elsewhere',
  ADD COLUMN session binary(32) NULL UNIQUE,
  ADD COLUMN version varchar(32) NOT NULL DEFAULT '',
  ADD COLUMN protocol int NOT NULL DEFAULT 0,
  ADD COLUMN joined datetime(3) NULL;
ALTER TABLE attempts ADD COLUMN cleared datetime(3) NULL COMMENT 'when evidence was removed, for its age or size';
