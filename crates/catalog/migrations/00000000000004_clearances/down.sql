ALTER TABLE sighting DROP COLUMN removed_at;
DROP TABLE clearance_entry;
DROP TABLE clearance;
ALTER TABLE household DROP COLUMN filing, DROP COLUMN clear_at;
