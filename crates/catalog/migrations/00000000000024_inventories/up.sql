-- Why: what a device has is what its last inventory counted, not every name that it ever offered. How many of these it had not sent yet when
-- it counted tells what is still to come before it has named them.
ALTER TABLE device_source ADD COLUMN fresh bigint;
