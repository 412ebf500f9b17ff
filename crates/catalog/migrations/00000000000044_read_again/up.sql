-- Why: a reader of files was ended with the thread that had started it, and what it read just then had no facts: no camera, no size, and a date
-- that was guessed. They are read once more, and dated by what they say.
INSERT INTO job (kind, key, priority, due)
SELECT 'fetch', id, 16, now() FROM original
WHERE facts ->> 'problem' LIKE '%took too long or too much memory' AND held_at IS NULL AND gone_at IS NULL
ON CONFLICT DO NOTHING;
