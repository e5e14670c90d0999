-- +goose Up
ALTER TABLE workspaces ADD COLUMN IF NOT EXISTS routes text NOT NULL DEFAULT '["route.test"]' COMMENT 'names that apps may be led to people''s own machines from, as JSON';
