-- Why: SHA-256 of every byte that is sent, twice, was two thirds of what sending costs. What a store verifies is one of several checksums now,
-- the quickest that a trial has seen it verify; and what it holds is told by one of two hashes. Whoever was seen to notice changed bytes did
-- so by SHA-256; a disk and a share verify nothing.
ALTER TABLE store ADD COLUMN checksum text CONSTRAINT store_checksum CHECK (checksum IN ('crc64nvme', 'sha256'));
UPDATE store SET checksum = 'sha256' WHERE notices AND endpoint LIKE 'http%';
ALTER TABLE store DROP COLUMN notices;

ALTER TABLE object RENAME COLUMN sealed_digest TO sealed_hash;
ALTER TABLE object RENAME CONSTRAINT object_sealed_digest TO object_sealed_hash;
ALTER TABLE object ADD COLUMN sealed_algorithm text NOT NULL DEFAULT 'sha256'
    CONSTRAINT object_sealed_algorithm CHECK (sealed_algorithm IN ('sha256', 'blake3'));
ALTER TABLE object ALTER COLUMN sealed_algorithm DROP DEFAULT;
