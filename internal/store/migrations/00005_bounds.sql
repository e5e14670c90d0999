-- +goose Up
ALTER TABLE runs ADD COLUMN IF NOT EXISTS idempotency_hash binary(32) NULL COMMENT 'of the request that came with the key';
ALTER TABLE sessions ADD COLUMN IF NOT EXISTS awaited datetime(3) NULL COMMENT 'until when somebody waits for it to be opened, unless that is said again';
ALTER TABLE legs ADD KEY IF NOT EXISTS waiting (stage, workspace_id, run_id, id);
