-- Why: a scanned picture is of the day when it was scanned, and most cameras know no place. People say when and where a picture was taken; what they said
-- counts, no file is changed by it, and what its file says is known as before. The ledgers say what people said, so that it comes back with the pictures.
CREATE TABLE given_time (
    original uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    -- Added to what is known otherwise. In `original`, times are with it.
    seconds  bigint NOT NULL CHECK (abs(seconds) <= 400 * 366 * 86400::bigint),
    given_by uuid REFERENCES person ON DELETE SET NULL,
    given_at timestamptz NOT NULL
);
CREATE INDEX given_time_by ON given_time (given_by) WHERE given_by IS NOT NULL;
CREATE TABLE given_place (
    original uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    -- Degrees. Neither: that it has no place, whatever its file says.
    north    double precision CHECK (abs(north) <= 90),
    east     double precision CHECK (abs(east) <= 180),
    given_by uuid REFERENCES person ON DELETE SET NULL,
    given_at timestamptz NOT NULL,
    CHECK ((north IS NULL) = (east IS NULL))
);
CREATE INDEX given_place_by ON given_place (given_by) WHERE given_by IS NOT NULL;

-- What is known of a file, with the place that somebody gave it. What it says itself stays beside that; whoever reads the file anew hands in facts
-- without that, and the place is the file's then. Not STABLE: who waited for somebody that gave a place sees it.
CREATE FUNCTION facts_with_place(facts jsonb, original uuid) RETURNS jsonb LANGUAGE plpgsql AS $$
DECLARE
    own   jsonb := CASE WHEN facts ? 'place_in_file' THEN facts -> 'place_in_file' ELSE coalesce(facts -> 'place', 'null') END;
    given given_place;
BEGIN
    SELECT * INTO given FROM given_place g WHERE g.original = facts_with_place.original;
    IF FOUND THEN
        RETURN facts || jsonb_build_object('place', CASE WHEN given.north IS NOT NULL THEN jsonb_build_array(given.north, given.east) END, 'place_in_file', own);
    END IF;
    RETURN CASE WHEN facts ? 'place_in_file' THEN facts - 'place_in_file' || jsonb_build_object('place', own) ELSE facts END;
END $$;
CREATE FUNCTION original_given_place() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.facts := facts_with_place(NEW.facts, NEW.id);
    RETURN NEW;
END $$;
-- By its name before `original_taken_elsewhere`, which looks at the place.
CREATE TRIGGER original_given_place BEFORE UPDATE OF facts ON original FOR EACH ROW EXECUTE FUNCTION original_given_place();
CREATE FUNCTION place_given() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE original o SET facts = o.facts FROM changed WHERE o.id = changed.original;
    RETURN NULL;
END $$;
CREATE TRIGGER place_given AFTER INSERT ON given_place REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION place_given();
CREATE TRIGGER place_given_anew AFTER UPDATE ON given_place REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION place_given();
CREATE TRIGGER place_given_no_more AFTER DELETE ON given_place REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION place_given();

-- The ledgers say it again, as people's favourites. Of a time, the file's row says that it is another one.
CREATE TRIGGER given_place_said AFTER INSERT OR DELETE ON given_place FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER given_place_said_anew AFTER UPDATE OF north, east ON given_place FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER given_time_said AFTER INSERT OR DELETE ON given_time FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER given_time_said_anew AFTER UPDATE OF seconds ON given_time FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();

-- A file that comes to pictures of which somebody said when and where they were taken is of then and there. Returns those whose time is another one now.
CREATE FUNCTION given_to_all(shots uuid[]) RETURNS SETOF uuid LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO given_place (original, north, east, given_by, given_at)
    SELECT f.id, g.north, g.east, g.given_by, g.given_at FROM original f CROSS JOIN LATERAL (
        SELECT g.* FROM given_place g JOIN original o ON o.id = g.original WHERE o.shot = f.shot ORDER BY g.given_at DESC, g.original LIMIT 1
    ) g WHERE f.shot = ANY (shots) AND f.held_at IS NULL AND f.gone_at IS NULL ON CONFLICT DO NOTHING;
    RETURN QUERY WITH new AS (
        INSERT INTO given_time (original, seconds, given_by, given_at)
        SELECT f.id, g.seconds, g.given_by, g.given_at FROM original f CROSS JOIN LATERAL (
            SELECT g.* FROM given_time g JOIN original o ON o.id = g.original WHERE o.shot = f.shot ORDER BY g.given_at DESC, g.original LIMIT 1
        ) g WHERE f.shot = ANY (shots) AND f.held_at IS NULL AND f.gone_at IS NULL ON CONFLICT DO NOTHING RETURNING original, seconds
    )
    UPDATE original o SET taken_at = o.taken_at + make_interval(secs => n.seconds), taken_local = o.taken_local + make_interval(secs => n.seconds)
    FROM new n WHERE o.id = n.original RETURNING o.id;
END $$;
