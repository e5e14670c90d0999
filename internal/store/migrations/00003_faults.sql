-- +goose Up
ALTER TABLE packages ADD COLUMN IF NOT EXISTS inputs json NOT NULL DEFAULT '[]';
ALTER TABLE runs ADD COLUMN IF NOT EXISTS stopped datetime(3) NULL;
ALTER TABLE cases ADD COLUMN IF NOT EXISTS tries json NOT NULL DEFAULT '[]' COMMENT 'where there was more than one';
ALTER TABLE legs ADD COLUMN IF NOT EXISTS stop tinyint NOT NULL DEFAULT 0 COMMENT 'a person wants it to end';
ALTER TABLE devices
  ADD COLUMN IF NOT EXISTS lost_in_row int NOT NULL DEFAULT 0 COMMENT 'attempts lost on it since the last that was not',
  ADD COLUMN IF NOT EXISTS quarantined datetime(3) NULL,
  ADD COLUMN IF NOT EXISTS quarantine_why text NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS quarantine_by varchar(8) NOT NULL DEFAULT '' COMMENT 'itself, or hand: then only a hand releases it';
CREATE TABLE IF NOT EXISTS run_secrets (
  run_id char(26) NOT NULL,
  name varchar(63) NOT NULL,
  value text NOT NULL,
  PRIMARY KEY (run_id, name),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
) COMMENT 'deleted when the run is over';
ALTER TABLE hosts
  ADD COLUMN IF NOT EXISTS key_hash binary(32) NULL UNIQUE COMMENT 'of a host that joins from elsewhere',
  ADD COLUMN IF NOT EXISTS session binary(32) NULL UNIQUE,
  ADD COLUMN IF NOT EXISTS version varchar(32) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS protocol int NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS joined datetime(3) NULL;
ALTER TABLE attempts ADD COLUMN IF NOT EXISTS cleared datetime(3) NULL COMMENT 'when evidence was removed, for its age or size';
