-- Why: a scanned picture lies on its side, and some cameras did not notice how they were held. People turn it; its file stays as it is, and what is shown of
-- it is turned. The ledgers say it, so that it comes back with the pictures.
CREATE TABLE given_turn (
    original uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    -- To the right. None is no row.
    quarters smallint NOT NULL CHECK (quarters BETWEEN 1 AND 3),
    given_by uuid REFERENCES person ON DELETE SET NULL,
    given_at timestamptz NOT NULL
);
CREATE INDEX given_turn_by ON given_turn (given_by) WHERE given_by IS NOT NULL;

-- What is known of a file, with its width and height as it is shown. Whoever reads the file anew hands in facts that say nothing of a turn: these are the file's.
-- Not STABLE: who waited for somebody that turned the picture sees it.
CREATE FUNCTION facts_as_turned(facts jsonb, original uuid) RETURNS jsonb LANGUAGE plpgsql AS $$
DECLARE
    was integer := coalesce((facts ->> 'turned')::integer, 0);
    is_ integer := coalesce((SELECT g.quarters FROM given_turn g WHERE g.original = facts_as_turned.original), 0);
BEGIN
    IF (was - is_) % 2 <> 0 AND facts ? 'width' AND facts ? 'height' THEN
        facts := facts || jsonb_build_object('width', facts -> 'height', 'height', facts -> 'width');
    END IF;
    RETURN facts - 'turned' || CASE WHEN is_ = 0 THEN '{}' ELSE jsonb_build_object('turned', is_) END;
END $$;
CREATE FUNCTION original_given_turn() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.facts := facts_as_turned(NEW.facts, NEW.id);
    RETURN NEW;
END $$;
CREATE TRIGGER original_given_turn BEFORE UPDATE OF facts ON original FOR EACH ROW EXECUTE FUNCTION original_given_turn();

-- What is shown of it is made again; until then nothing is shown that lies as before.
CREATE FUNCTION turn_given() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE original o SET facts = o.facts, placeholder = NULL, preview = CASE o.preview WHEN 'ready' THEN 'waiting' ELSE o.preview END
    FROM changed WHERE o.id = changed.original;
    RETURN NULL;
END $$;
CREATE TRIGGER turn_given AFTER INSERT ON given_turn REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION turn_given();
CREATE TRIGGER turn_given_anew AFTER UPDATE ON given_turn REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION turn_given();
CREATE TRIGGER turn_given_no_more AFTER DELETE ON given_turn REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION turn_given();

CREATE TRIGGER given_turn_said AFTER INSERT OR DELETE ON given_turn FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER given_turn_said_anew AFTER UPDATE OF quarters ON given_turn FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
