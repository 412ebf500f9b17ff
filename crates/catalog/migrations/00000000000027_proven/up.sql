-- Why: whoever can write to a store could add people and originals to its ledger, cut it, or put an older one back. With a key of the
-- household's own each segment proves who wrote it (HMAC-SHA-256), and where a ledger ends is known here as well.
ALTER TABLE household ADD COLUMN ledger_key text;
ALTER TABLE store
    ADD COLUMN ledger_name text,
    ADD COLUMN ledger_digest bytea CHECK (length(ledger_digest) = 32),
    -- What was written without proof is said once more by a checkpoint that has one.
    ADD COLUMN checkpoint_due boolean NOT NULL DEFAULT false;
UPDATE store SET checkpoint_due = true WHERE ledger_segment > 0;
