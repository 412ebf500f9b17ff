ALTER TABLE run DROP COLUMN halted;
ALTER TABLE device DROP COLUMN waiting_for;
DROP TABLE device_source;
