-- Why: every open page counted the whole library, several times a second while something happened: 31 s with a million originals. What pages
-- ask for is counted when it changes now. `counted_now` says what an original adds to the counts, `counted` what it has added so far; whatever
-- changes one of them changes the other, in the same transaction.
CREATE VIEW counted_now AS
    SELECT o.id AS original, o.person, o.size, o.landed_at, o.gone_at IS NULL AS kept, o.held_at IS NULL AND o.gone_at IS NULL AS living,
           -- The month it is shown in; none for what another file stands for.
           CASE WHEN o.shot = o.id AND o.held_at IS NULL AND o.gone_at IS NULL THEN date_trunc('month', o.taken_local)::date END AS month,
           coalesce(s.home, false) AS home, coalesce(s.away, false) AS away, s.proven_at,
           -- Bad or missing at home, and being fetched from a store.
           NOT coalesce(s.home, false) AND EXISTS (SELECT 1 FROM job j WHERE j.kind = 'fetch' AND j.key = o.id AND NOT j.gave_up) AS coming,
           -- Stores with a good copy, and when each was read back.
           coalesce(s.stores, '{}') AS stores, coalesce(s.proofs, '{}') AS proofs
    FROM original o LEFT JOIN LATERAL (
        SELECT bool_or(t.place = '00000000-0000-0000-0000-000000000000') AS home, bool_or(a.away) AS away,
               max(t.proven_at) FILTER (WHERE a.away) AS proven_at,
               array_agg(t.place ORDER BY t.place) FILTER (WHERE t.place <> '00000000-0000-0000-0000-000000000000') AS stores,
               array_agg(t.proven_at ORDER BY t.place) FILTER (WHERE t.place <> '00000000-0000-0000-0000-000000000000') AS proofs
        FROM standing t LEFT JOIN store a ON a.id = t.place WHERE t.original = o.id AND t.good
    ) s ON true;

CREATE TABLE counted (
    original  uuid PRIMARY KEY REFERENCES original,
    person    uuid NOT NULL,
    size      bigint NOT NULL,
    landed_at timestamptz NOT NULL,
    kept      boolean NOT NULL,
    living    boolean NOT NULL,
    month     date,
    home      boolean NOT NULL,
    away      boolean NOT NULL,
    proven_at timestamptz,
    coming    boolean NOT NULL,
    stores    uuid[] NOT NULL,
    proofs    timestamptz[] NOT NULL
) WITH (fillfactor = 80);
CREATE INDEX counted_exposed ON counted (person, landed_at) WHERE living AND home AND NOT away;
CREATE INDEX counted_copies ON counted (home, stores, original) WHERE living;

-- The counts. about: a member, a store, or nil for the sets of places that have good copies. day: of the month that is shown, of the proof.
CREATE TABLE tally (
    about uuid NOT NULL,
    fact  text NOT NULL,
    day   date NOT NULL,
    n     bigint NOT NULL,
    bytes bigint NOT NULL,
    PRIMARY KEY (about, fact, day)
);
-- What is to be added to them. Everybody adds lines of their own, so nobody waits for anybody; `fold_tally` adds them up.
CREATE TABLE tally_change (
    id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    about uuid NOT NULL,
    fact  text NOT NULL,
    day   date NOT NULL,
    n     bigint NOT NULL,
    bytes bigint NOT NULL
);

-- The counts that an original is part of.
CREATE FUNCTION counts_of(c counted) RETURNS TABLE (about uuid, fact text, day date) LANGUAGE sql STABLE AS $$
    SELECT c.person, f.fact, '-infinity'::date FROM (VALUES
        ('kept', c.kept), ('home', c.living AND c.home), ('offsite', c.living AND c.away),
        ('exposed', c.living AND c.home AND NOT c.away), ('lost', c.living AND NOT c.home AND NOT c.coming),
        ('coming', c.living AND NOT c.home AND c.coming)
    ) f (fact, yes) WHERE f.yes
    UNION ALL SELECT c.person, 'proven', (c.proven_at AT TIME ZONE 'UTC')::date WHERE c.living AND c.away AND c.proven_at IS NOT NULL
    UNION ALL SELECT c.person, 'month', c.month WHERE c.month IS NOT NULL
    UNION ALL SELECT '00000000-0000-0000-0000-000000000000',
        array_to_string(CASE WHEN c.home THEN array_prepend('00000000-0000-0000-0000-000000000000'::uuid, c.stores) ELSE c.stores END, ' '),
        '-infinity' WHERE c.living
    UNION ALL SELECT s.store, f.fact, '-infinity' FROM unnest(c.stores) s (store), (VALUES ('held', true), ('also at home', c.home)) f (fact, yes)
        WHERE c.living AND f.yes
    UNION ALL SELECT s.store, 'proven', (s.proof AT TIME ZONE 'UTC')::date FROM unnest(c.stores, c.proofs) s (store, proof)
        WHERE c.living AND s.proof IS NOT NULL
$$;

-- `count_anew` brings the counts up to date with some originals; the next migration has it, because names follow from it as well.
CREATE FUNCTION originals_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    -- One that comes with a copy is counted with that.
    PERFORM count_anew(array_agg(id)) FROM changed WHERE NOT EXISTS (SELECT 1 FROM standing WHERE original = id) HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE FUNCTION originals_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM count_anew(array_agg(n.id)) FROM after n JOIN before o USING (id)
    WHERE (n.size, n.taken_local, n.shot, n.held_at, n.gone_at) IS DISTINCT FROM (o.size, o.taken_local, o.shot, o.held_at, o.gone_at)
    HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE FUNCTION copies_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM count_anew(array_agg(DISTINCT original)) FROM changed HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE FUNCTION copies_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM count_anew(array_agg(DISTINCT n.original)) FROM after n JOIN before o USING (original, place)
    WHERE (n.good, n.proven_at) IS DISTINCT FROM (o.good, o.proven_at) HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE FUNCTION fetch_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM count_anew(ARRAY[coalesce(NEW.key, OLD.key)]);
    RETURN NULL;
END $$;
-- A disk that stays in the house from now on, or does not any more: all that it holds, in portions.
CREATE FUNCTION store_moved() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    few uuid[];
    last uuid := '00000000-0000-0000-0000-000000000000';
BEGIN
    LOOP
        SELECT array_agg(original ORDER BY original) INTO few FROM (
            SELECT original FROM standing WHERE place = NEW.id AND good AND original > last ORDER BY original LIMIT 10000
        ) s;
        EXIT WHEN few IS NULL;
        last := few[array_upper(few, 1)];
        PERFORM count_anew(few);
    END LOOP;
    RETURN NULL;
END $$;
-- What a store is paid for: one line for each object, whoever has its bytes.
CREATE FUNCTION objects_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT store, 'objects', '-infinity', count(*), sum(size) FROM changed GROUP BY store;
    RETURN NULL;
END $$;
CREATE FUNCTION objects_removed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT store, 'objects', '-infinity', -count(*), -sum(size) FROM changed GROUP BY store;
    RETURN NULL;
END $$;
CREATE FUNCTION objects_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT store, 'objects', '-infinity', sum(n), sum(size) FROM (
        SELECT store, 1 AS n, size FROM after UNION ALL SELECT store, -1, -size FROM before
    ) o GROUP BY store HAVING sum(n) <> 0 OR sum(size) <> 0;
    RETURN NULL;
END $$;
CREATE TRIGGER object_counted AFTER INSERT ON object REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION objects_added();
CREATE TRIGGER object_counted_no_more AFTER DELETE ON object REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION objects_removed();
CREATE TRIGGER object_counted_anew AFTER UPDATE ON object REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION objects_changed();
CREATE TRIGGER original_counted AFTER INSERT ON original REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION originals_added();
CREATE TRIGGER original_counted_anew AFTER UPDATE ON original REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION originals_changed();
CREATE TRIGGER copy_counted AFTER INSERT ON standing REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION copies_added();
CREATE TRIGGER copy_counted_no_more AFTER DELETE ON standing REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION copies_added();
CREATE TRIGGER copy_counted_anew AFTER UPDATE ON standing REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION copies_changed();
CREATE TRIGGER fetch_added AFTER INSERT ON job FOR EACH ROW WHEN (NEW.kind = 'fetch') EXECUTE FUNCTION fetch_changed();
CREATE TRIGGER fetch_changed AFTER UPDATE OF gave_up ON job FOR EACH ROW WHEN (NEW.kind = 'fetch' AND NEW.gave_up <> OLD.gave_up)
    EXECUTE FUNCTION fetch_changed();
CREATE TRIGGER fetch_removed AFTER DELETE ON job FOR EACH ROW WHEN (OLD.kind = 'fetch') EXECUTE FUNCTION fetch_changed();
CREATE TRIGGER store_moved AFTER UPDATE OF away ON store FOR EACH ROW WHEN (NEW.away <> OLD.away) EXECUTE FUNCTION store_moved();

-- Adds up what was added since. Two at once share the work; one order for all.
CREATE FUNCTION fold_tally(most integer) RETURNS bigint LANGUAGE sql AS $$
    WITH taken AS (
        DELETE FROM tally_change WHERE id IN (SELECT id FROM tally_change ORDER BY id LIMIT most FOR UPDATE SKIP LOCKED)
        RETURNING about, fact, day, n, bytes
    ), added AS (
        INSERT INTO tally AS t SELECT about, fact, day, sum(n), sum(bytes) FROM taken GROUP BY about, fact, day ORDER BY about, fact, day
        ON CONFLICT (about, fact, day) DO UPDATE SET n = t.n + excluded.n, bytes = t.bytes + excluded.bytes
    )
    SELECT count(*) FROM taken
$$;
-- What adds up to the counts at this moment.
CREATE VIEW counts AS SELECT about, fact, day, n, bytes FROM tally UNION ALL SELECT about, fact, day, n, bytes FROM tally_change;
-- What is remembered of an original otherwise than it is: its next change would be counted wrongly.
CREATE VIEW misremembered AS
    SELECT n.* FROM counted_now n LEFT JOIN counted c USING (original) WHERE c.original IS NULL OR (n.*) IS DISTINCT FROM (c.*);

INSERT INTO counted SELECT * FROM counted_now;
INSERT INTO tally SELECT t.about, t.fact, t.day, count(*), sum(c.size) FROM counted c, counts_of(c) t GROUP BY t.about, t.fact, t.day;
INSERT INTO tally SELECT store, 'objects', '-infinity', count(*), sum(size) FROM object GROUP BY store;

-- What pages count by these is little, however large the library.
CREATE INDEX standing_unlisted ON standing (place) WHERE good AND NOT listed;
CREATE INDEX standing_bad ON standing (place) WHERE NOT good;
CREATE INDEX standing_proven ON standing (place, proven_at) WHERE good AND proven_at IS NOT NULL;
CREATE INDEX job_gave_up ON job (kind) WHERE gave_up;
CREATE INDEX object_confirmed ON object (store, confirmed_at);
