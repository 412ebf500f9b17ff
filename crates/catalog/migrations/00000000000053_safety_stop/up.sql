-- One word for one thing.
ALTER TABLE household RENAME COLUMN brake_percent TO safety_stop_percent;
ALTER TABLE household RENAME CONSTRAINT household_brake_percent_check TO household_safety_stop_percent_check;
