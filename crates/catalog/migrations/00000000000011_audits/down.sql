DROP INDEX object_by_name;
DROP TABLE healing;
DROP TABLE audit;
DROP INDEX standing_least_looked_at;
ALTER TABLE standing DROP COLUMN looked_at;
DELETE FROM job WHERE kind IN ('audit', 'survey', 'drill', 'heal');
