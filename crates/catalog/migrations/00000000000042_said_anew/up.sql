-- Why: what changed of an original while a segment of a ledger was being written went by unsaid if its copy was not listed yet: nothing of the
-- copy's row told the writer so. It is touched by every such change now.
CREATE OR REPLACE FUNCTION ledgers_say_it_anew() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE standing SET listed = false WHERE original = NEW.id AND place IN (SELECT id FROM store);
    RETURN NULL;
END $$;

-- Why: a copy that had been missing or damaged when the ledger was said again in parts, and was good again later, is in none of them.
UPDATE standing SET listed = false WHERE listed AND place IN (SELECT id FROM store) AND NOT good;
