-- Why: originals of which nobody knows the device (brought back by a ledger that names none) all had the same key, the empty one. Whoever
-- looked for the company of a picture that had just landed was taken through all of them, because so many share a key. Each has its own now.
UPDATE original SET shot_key = id::text WHERE shot_key = '';
ALTER TABLE original ALTER COLUMN shot_key DROP DEFAULT;
ALTER TABLE original ADD CONSTRAINT original_has_shot_key CHECK (shot_key <> '') NOT VALID;
