ALTER TABLE person DROP COLUMN soft_quota;
