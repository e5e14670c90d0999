-- +goose Up
-- +goose StatementBegin
BEGIN NOT ATOMIC
  IF NOT EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = database() AND table_name = 'work') THEN
    RENAME TABLE legs TO work;
  ELSEIF EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = database() AND table_name = 'legs') THEN
    IF (SELECT count(*) FROM legs) = 0 THEN -- the first migration was carried out again
      DROP TABLE legs;
    END IF;
  END IF;
END
-- +goose StatementEnd
CREATE TABLE IF NOT EXISTS specs (
  hash binary(32) NOT NULL PRIMARY KEY COMMENT 'SHA-256 of the text',
  spec longtext NOT NULL
) COMMENT 'what is to be done: most pieces of work of a run have the same';
ALTER TABLE work
  ADD COLUMN IF NOT EXISTS kind varchar(16) NOT NULL DEFAULT 'leg',
  ADD COLUMN IF NOT EXISTS spec binary(32) NULL COMMENT 'in specs; null: written before there were any, and made when it is asked for',
  ADD COLUMN IF NOT EXISTS wants json NOT NULL DEFAULT '{}' COMMENT 'which devices will do',
  ADD COLUMN IF NOT EXISTS limit_seconds int NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS asked_by char(26) NOT NULL DEFAULT '' COMMENT 'the key with which it was asked for';
UPDATE work SET kind = 'session' WHERE run_id IS NULL AND kind = 'leg';
UPDATE work w JOIN runs r ON r.id = w.run_id SET w.wants = JSON_OBJECT('device', w.device_id), w.limit_seconds = r.limit_seconds WHERE w.stage <> 'done' AND w.wants = '{}';
UPDATE work w JOIN sessions s ON s.id = w.id LEFT JOIN builds b ON b.id = s.build_id SET w.limit_seconds = JSON_VALUE(s.request, '$.limit'),
  w.wants = JSON_MERGE_PATCH(JSON_OBJECT('where', JSON_COMPACT(coalesce(JSON_EXTRACT(s.request, '$.where'), '[]'))),
    IF(b.id IS NULL, '{}', JSON_OBJECT('needs', JSON_OBJECT('platform', b.platform COLLATE utf8mb4_bin, 'min_api', JSON_COMPACT(coalesce(JSON_EXTRACT(b.facts, '$.min_api'), '0')), 'abis', JSON_COMPACT(coalesce(JSON_EXTRACT(b.facts, '$.abis'), '[]'))))))
  WHERE w.stage <> 'done' AND w.wants = '{}';
ALTER TABLE attempts CHANGE COLUMN IF EXISTS leg_id work_id char(26) NOT NULL;
ALTER TABLE holds CHANGE COLUMN IF EXISTS leg_id work_id char(26) NOT NULL;
ALTER TABLE sessions CHANGE COLUMN IF EXISTS label `group` varchar(100) NOT NULL;
ALTER TABLE holds
  ADD COLUMN IF NOT EXISTS released datetime(3) NULL COMMENT 'when the device was given back; its evidence may still be coming',
  ADD COLUMN IF NOT EXISTS holding tinyint AS (IF(ended IS NULL AND released IS NULL, 1, NULL)) VIRTUAL;
ALTER TABLE holds ADD UNIQUE KEY IF NOT EXISTS one_hold_a_device (device_id, holding);
ALTER TABLE holds DROP KEY IF EXISTS one_active_hold_a_device;
ALTER TABLE devices
  MODIFY serial varchar(200) NOT NULL COMMENT 'what everybody calls it',
  ADD COLUMN IF NOT EXISTS lab varchar(32) NOT NULL DEFAULT 'adb' COMMENT 'of its host, through which it is reached',
  ADD COLUMN IF NOT EXISTS unit varchar(128) NOT NULL DEFAULT '' COMMENT 'the serial by which its lab knows it';
UPDATE devices SET unit = serial WHERE unit = '';
ALTER TABLE devices ADD KEY IF NOT EXISTS of_lab (host_id, lab, unit);
