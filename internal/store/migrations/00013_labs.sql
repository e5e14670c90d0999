-- +goose Up
ALTER TABLE attempts ADD COLUMN IF NOT EXISTS loan json NULL COMMENT 'of a device that its lab lent: the lab, its session, its page about it';
