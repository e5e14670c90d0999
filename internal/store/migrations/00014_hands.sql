-- +goose Up
ALTER TABLE sessions
  ADD COLUMN IF NOT EXISTS by_hand tinyint(1) NOT NULL DEFAULT 0 COMMENT 'a person holds the device, no client of WebDriver',
  ADD COLUMN IF NOT EXISTS held_until datetime(3) NULL COMMENT 'until when a person holds the device; before it is theirs, null';
ALTER TABLE sessions ADD KEY IF NOT EXISTS by_hand (workspace_id, by_hand, id);
CREATE TABLE IF NOT EXISTS hold_clients (
  token binary(32) NOT NULL PRIMARY KEY COMMENT 'hash of the id that goes over the wire',
  session_id char(26) NOT NULL COMMENT 'the hold',
  KEY of_hold (session_id)
) COMMENT 'clients of WebDriver that work on a device which a person holds';
