-- Why: an album tells a story, and a story is not always told in the order of its clock. Whoever owns it says in which order its pictures are shown, and what
-- stands between them. One value: it is changed as a whole, by one person, who is told if it was changed meanwhile.
ALTER TABLE album ADD COLUMN arrangement jsonb CHECK (jsonb_typeof(arrangement) = 'array');
