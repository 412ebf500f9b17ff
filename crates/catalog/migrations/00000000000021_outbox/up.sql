-- Why: work that was wanted once more while somebody did it was forgotten when its row went. Each wish is counted now, and the row goes
-- only if nobody has wished since it was taken, and only by the hand of whoever took it last. Work that was under way when its process
-- died is counted too: what ends the service again and again is not begun for ever.
ALTER TABLE job
    ADD COLUMN wishes bigint NOT NULL DEFAULT 0,
    ADD COLUMN taken bigint NOT NULL DEFAULT 0,
    ADD COLUMN lost integer NOT NULL DEFAULT 0;

-- Why: what a ledger says of an original was to be said anew by whoever changed it, and corrected clocks, times from sidecars and shots
-- were forgotten. Whoever changes it now, it is to be said anew.
CREATE FUNCTION ledgers_say_it_anew() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE standing SET listed = false WHERE original = NEW.id AND listed AND place IN (SELECT id FROM store);
    RETURN NULL;
END $$;
CREATE TRIGGER original_said AFTER UPDATE OF path, name, source, taken_at, taken_local, taken_rule, file_time, shot, held_at, gone_at ON original
    FOR EACH ROW WHEN ((OLD.path, OLD.name, OLD.source, OLD.taken_at, OLD.taken_local, OLD.taken_rule, OLD.file_time, OLD.shot, OLD.held_at, OLD.gone_at)
        IS DISTINCT FROM (NEW.path, NEW.name, NEW.source, NEW.taken_at, NEW.taken_local, NEW.taken_rule, NEW.file_time, NEW.shot, NEW.held_at, NEW.gone_at))
    EXECUTE FUNCTION ledgers_say_it_anew();

-- What was put down before this and is not in the ledgers is found by looking.
UPDATE standing SET listed = false WHERE listed AND place IN (SELECT id FROM store)
    AND original IN (SELECT id FROM original WHERE correction IS NOT NULL OR taken_rule = 'sidecar' OR shot <> id);
