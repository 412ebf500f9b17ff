-- Why: that an original's file had left the home disk was told by a name that it was given then, "gone/" and its id; which a person's own folder
-- may be called as well. It has no name in the library any more: another file may have it.
ALTER TABLE original ALTER COLUMN folded DROP NOT NULL;
UPDATE original SET folded = NULL WHERE gone_at IS NOT NULL AND folded = 'gone/' || id;
ALTER TABLE original ADD CONSTRAINT original_named CHECK (folded IS NOT NULL OR gone_at IS NOT NULL);

-- The stages of a deletion and what leads from one to another (`core::deletion`; a test holds the two together). Whoever changes a row, by
-- whatever statement, takes one of these steps or none.
CREATE FUNCTION original_stage(o original) RETURNS text LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE WHEN o.held_at IS NULL THEN 'living' WHEN o.gone_at IS NULL THEN 'held' WHEN o.folded IS NOT NULL THEN 'leaving-home' ELSE 'left' END
$$;
CREATE FUNCTION original_steps() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF (original_stage(OLD), original_stage(NEW)) NOT IN (
        ('living', 'held'), ('held', 'living'), ('held', 'leaving-home'), ('leaving-home', 'left'), ('leaving-home', 'living'), ('left', 'living')
    ) THEN
        RAISE EXCEPTION 'an original cannot go from % to %', original_stage(OLD), original_stage(NEW)
            USING ERRCODE = 'check_violation', CONSTRAINT = 'original_steps';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER original_steps BEFORE UPDATE OF held_at, gone_at, folded ON original FOR EACH ROW
    WHEN ((OLD.held_at IS NULL, OLD.gone_at IS NULL, OLD.folded IS NULL) IS DISTINCT FROM (NEW.held_at IS NULL, NEW.gone_at IS NULL, NEW.folded IS NULL))
    EXECUTE FUNCTION original_steps();
