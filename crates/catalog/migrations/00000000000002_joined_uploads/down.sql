ALTER TABLE upload DROP COLUMN metadata, DROP COLUMN concat;
