-- One word for one thing: what people and code call a reading and a listing was work of the kind `audit` and `survey`.
UPDATE job SET kind = 'reading' WHERE kind = 'audit';
UPDATE job SET kind = 'listing' WHERE kind = 'survey';
UPDATE tally SET fact = 'reading' WHERE about = '00000000-0000-0000-0000-000000000001' AND fact = 'audit';
UPDATE tally SET fact = 'listing' WHERE about = '00000000-0000-0000-0000-000000000001' AND fact = 'survey';
UPDATE tally_change SET fact = 'reading' WHERE about = '00000000-0000-0000-0000-000000000001' AND fact = 'audit';
UPDATE tally_change SET fact = 'listing' WHERE about = '00000000-0000-0000-0000-000000000001' AND fact = 'survey';

-- What a column cannot be is refused where it is written, so that nobody who reads it has to guess. Rows that are there are not looked at.
ALTER TABLE original ADD CONSTRAINT original_size CHECK (size >= 0) NOT VALID;
ALTER TABLE sighting ADD CONSTRAINT sighting_digest CHECK (length(digest) = 32) NOT VALID, ADD CONSTRAINT sighting_size CHECK (size >= 0) NOT VALID;
ALTER TABLE upload ADD CONSTRAINT upload_digest CHECK (length(digest) = 32) NOT VALID, ADD CONSTRAINT upload_length CHECK (length >= 0) NOT VALID;
ALTER TABLE object
    ADD CONSTRAINT object_digest CHECK (length(digest) = 32) NOT VALID,
    ADD CONSTRAINT object_sealed_digest CHECK (length(sealed_digest) = 32) NOT VALID,
    ADD CONSTRAINT object_size CHECK (size >= 0) NOT VALID;
ALTER TABLE observation
    ADD CONSTRAINT observation_digest CHECK (length(digest) = 32) NOT VALID;
ALTER TABLE clearance_entry ADD CONSTRAINT clearance_entry_digest CHECK (length(digest) = 32) NOT VALID;
ALTER TABLE superseded ADD CONSTRAINT superseded_digest CHECK (length(digest) = 32) NOT VALID;
ALTER TABLE derived_file ADD CONSTRAINT derived_file_size CHECK (size >= 0) NOT VALID;

-- The last backups of the whole household are read from this.
CREATE INDEX run_began ON run (began_at DESC, id DESC);
