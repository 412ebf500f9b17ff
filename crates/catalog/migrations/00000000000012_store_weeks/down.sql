ALTER TABLE store DROP COLUMN week, DROP COLUMN paused, DROP COLUMN rest_until;
