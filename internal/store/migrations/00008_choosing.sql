-- +goose Up
CREATE TABLE IF NOT EXISTS pools (
  id char(26) NOT NULL PRIMARY KEY,
  workspace_id char(26) NOT NULL,
  name varchar(63) NOT NULL,
  definition json NOT NULL,
  created datetime(3) NOT NULL,
  changed datetime(3) NOT NULL,
  UNIQUE KEY (workspace_id, name),
  FOREIGN KEY (workspace_id) REFERENCES workspaces (id)
);
CREATE TABLE IF NOT EXISTS labels (
  kind varchar(8) NOT NULL COMMENT 'run, build or package',
  of_id char(26) NOT NULL,
  workspace_id char(26) NOT NULL,
  name varchar(63) NOT NULL,
  value varchar(200) NOT NULL,
  PRIMARY KEY (kind, of_id, name),
  KEY found (workspace_id, kind, name, value, of_id)
) COMMENT 'by which things are found; each has its own beside, too';
ALTER TABLE workspaces ADD COLUMN IF NOT EXISTS runs int NOT NULL DEFAULT 0 COMMENT 'that it has started: the number of the newest';
ALTER TABLE runs
  ADD COLUMN IF NOT EXISTS number int NULL COMMENT 'in its workspace, to be said aloud',
  ADD COLUMN IF NOT EXISTS name varchar(200) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS labels json NOT NULL DEFAULT '{}',
  ADD COLUMN IF NOT EXISTS started_by varchar(64) NOT NULL DEFAULT '' COMMENT 'the name of the key',
  ADD COLUMN IF NOT EXISTS words varchar(2000) NOT NULL DEFAULT '' COMMENT 'by which it is searched, in small letters',
  ADD COLUMN IF NOT EXISTS forecast json NOT NULL DEFAULT 'null';
UPDATE runs r JOIN (SELECT id, ROW_NUMBER() OVER (PARTITION BY workspace_id ORDER BY id) AS n FROM runs) x ON x.id = r.id SET r.number = x.n,
  r.words = lower(left(concat_ws(' ', JSON_VALUE(r.request, '$.build'), JSON_VALUE(r.request, '$.package')), 2000)) WHERE r.number IS NULL;
UPDATE workspaces w SET w.runs = greatest(w.runs, (SELECT coalesce(max(number), 0) FROM runs WHERE workspace_id = w.id));
ALTER TABLE runs ADD UNIQUE KEY IF NOT EXISTS numbered (workspace_id, number);
ALTER TABLE builds ADD COLUMN IF NOT EXISTS labels json NOT NULL DEFAULT '{}';
ALTER TABLE packages
  ADD COLUMN IF NOT EXISTS labels json NOT NULL DEFAULT '{}',
  ADD COLUMN IF NOT EXISTS needs json NOT NULL DEFAULT '[]' COMMENT 'of a device: patterns';
ALTER TABLE devices ADD COLUMN IF NOT EXISTS labels json NOT NULL DEFAULT '{}';
ALTER TABLE work
  ADD COLUMN IF NOT EXISTS variant varchar(40) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS conditions varchar(2000) NOT NULL DEFAULT '' COMMENT 'how its device is set, as people write it';
