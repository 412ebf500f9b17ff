DROP TABLE derived_file;
ALTER TABLE household DROP COLUMN derive_jpeg;
