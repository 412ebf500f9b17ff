-- Why: an empty folder where a disk should be mounted was taken for the library. A library has an identity; this is the one that counts.
-- None: an earlier version made it, and it gets one when it is seen.
ALTER TABLE household ADD COLUMN library uuid;
