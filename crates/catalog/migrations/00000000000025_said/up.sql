-- Why: what a keeper decides reached a store's ledger only when a picture went there as well. A store remembers what its ledger said last of
-- the household (SHA-256 of those lines), so that a decision alone is reason enough for a segment, and nothing new is none.
ALTER TABLE store ADD COLUMN said bytea;
