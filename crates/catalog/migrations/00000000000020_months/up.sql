-- Why: the list of months counts everything that a member has. With what is shown named by the index itself, it is counted there, and
-- no picture's own row is read.
CREATE INDEX original_shown ON original (person, taken_local DESC, id DESC) WHERE shot = id AND held_at IS NULL AND gone_at IS NULL;
DROP INDEX original_leads;
