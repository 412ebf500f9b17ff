-- Why: what a device has and what of it is here was counted by joining all that it ever named, for every open page: 3 s with a million names.
-- A name knows now what is here of it, and each device's counts follow as the others do. Work that waits is counted the same way.
ALTER TABLE sighting
    -- A good copy of these bytes is at home.
    ADD COLUMN here boolean NOT NULL DEFAULT false,
    -- These bytes came once, whatever became of them.
    ADD COLUMN known boolean NOT NULL DEFAULT false,
    -- Its device has looked at everything since, and did not name it: it is not there any more.
    ADD COLUMN unnamed boolean NOT NULL DEFAULT false;
-- How many of a source were named since it was counted.
ALTER TABLE device_source ADD COLUMN named bigint NOT NULL DEFAULT 0;

UPDATE sighting g SET
    here = EXISTS (SELECT 1 FROM original o JOIN counted c ON c.original = o.id WHERE o.person = d.person AND o.digest = g.digest AND c.living AND c.home),
    known = EXISTS (SELECT 1 FROM original o WHERE o.person = d.person AND o.digest = g.digest),
    unnamed = g.seen_at < coalesce((SELECT max(began_at) FROM run r WHERE r.device = d.id AND r.ended_at IS NOT NULL AND r.halted IS NULL), '-infinity')
FROM device d WHERE d.id = g.device;
UPDATE device_source s SET named = (SELECT count(*) FROM sighting g WHERE g.device = s.device AND g.source = s.name AND g.seen_at >= s.told_at);

-- Bytes of a member whose names are to be looked at again. Whoever changes what is at home, or names something, says so here and waits for
-- nobody; `look_at_names` does it, one after the other.
CREATE TABLE name_change (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person uuid NOT NULL,
    digest bytea NOT NULL
);

-- The counts that a name is part of. What its owner deleted here (`core::offer` has these words) is neither missing nor refused.
CREATE FUNCTION counts_of_name(g sighting) RETURNS TABLE (fact text, n bigint, bytes bigint) LANGUAGE sql STABLE AS $$
    SELECT f.fact || ' ' || g.source, 1, g.size FROM (VALUES
        ('named', g.removed_at IS NULL), ('here', g.removed_at IS NULL AND g.here), ('cleared', g.removed_at IS NOT NULL),
        ('waiting', g.removed_at IS NULL AND NOT g.here AND (g.known OR NOT g.unnamed) AND g.refused IS NULL),
        ('refused', g.removed_at IS NULL AND NOT g.here AND (g.known OR NOT g.unnamed) AND g.refused NOT IN (
            'deleted at home; it can be brought back under Restore',
            'deleted at home for good; to add it again, choose it by hand on the night page'))
    ) f (fact, yes) WHERE f.yes
$$;
CREATE FUNCTION count_names(device uuid, source text, more bigint) RETURNS void LANGUAGE sql AS $$
    UPDATE device_source s SET named = s.named + more WHERE s.device = count_names.device AND s.name = count_names.source
$$;
CREATE FUNCTION names_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT c.device, t.fact, '-infinity', sum(t.n), sum(t.bytes) FROM changed c, counts_of_name(ROW(c.*)::sighting) t GROUP BY c.device, t.fact;
    INSERT INTO name_change (person, digest) SELECT DISTINCT d.person, c.digest FROM changed c JOIN device d ON d.id = c.device;
    PERFORM count_names(s.device, s.name, s.n) FROM (
        SELECT s.device, s.name, count(*) AS n FROM changed c JOIN device_source s ON s.device = c.device AND s.name = c.source AND c.seen_at >= s.told_at
        GROUP BY s.device, s.name ORDER BY s.device, s.name
    ) s;
    RETURN NULL;
END $$;
CREATE FUNCTION names_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT l.device, l.fact, '-infinity', sum(l.n), sum(l.bytes) FROM (
        SELECT c.device, t.fact, t.n, t.bytes FROM after c, counts_of_name(ROW(c.*)::sighting) t
        UNION ALL SELECT c.device, t.fact, -t.n, -t.bytes FROM before c, counts_of_name(ROW(c.*)::sighting) t
    ) l GROUP BY l.device, l.fact HAVING sum(l.n) <> 0 OR sum(l.bytes) <> 0;
    INSERT INTO name_change (person, digest)
    SELECT DISTINCT d.person, c.digest FROM (SELECT device, digest, source, name FROM after EXCEPT SELECT device, digest, source, name FROM before) c
    JOIN device d ON d.id = c.device;
    PERFORM count_names(s.device, s.name, s.n) FROM (
        SELECT s.device, s.name, sum(l.n)::bigint AS n FROM (
            SELECT device, source, seen_at, 1 AS n FROM after UNION ALL SELECT device, source, seen_at, -1 FROM before
        ) l JOIN device_source s ON s.device = l.device AND s.name = l.source AND l.seen_at >= s.told_at
        GROUP BY s.device, s.name HAVING sum(l.n) <> 0 ORDER BY s.device, s.name
    ) s;
    RETURN NULL;
END $$;
CREATE FUNCTION names_removed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT c.device, t.fact, '-infinity', -sum(t.n), -sum(t.bytes) FROM changed c, counts_of_name(ROW(c.*)::sighting) t GROUP BY c.device, t.fact;
    PERFORM count_names(s.device, s.name, -s.n) FROM (
        SELECT s.device, s.name, count(*) AS n FROM changed c JOIN device_source s ON s.device = c.device AND s.name = c.source AND c.seen_at >= s.told_at
        GROUP BY s.device, s.name ORDER BY s.device, s.name
    ) s;
    RETURN NULL;
END $$;
CREATE TRIGGER name_counted AFTER INSERT ON sighting REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION names_added();
CREATE TRIGGER name_counted_anew AFTER UPDATE ON sighting REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION names_changed();
CREATE TRIGGER name_counted_no_more AFTER DELETE ON sighting REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION names_removed();
INSERT INTO tally SELECT g.device, t.fact, '-infinity', sum(t.n), sum(t.bytes) FROM sighting g, counts_of_name(g) t GROUP BY g.device, t.fact;

-- A device has looked at everything: what it did not name is not there.
CREATE FUNCTION run_was_whole() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE sighting SET unnamed = true WHERE device = NEW.device AND NOT here AND removed_at IS NULL AND NOT unnamed AND seen_at < NEW.began_at;
    RETURN NULL;
END $$;
CREATE TRIGGER run_was_whole AFTER UPDATE OF ended_at ON run FOR EACH ROW
    WHEN (NEW.ended_at IS NOT NULL AND OLD.ended_at IS NULL AND NEW.halted IS NULL) EXECUTE FUNCTION run_was_whole();

-- Looks again at the names whose bytes came, went, or were named; at most so many. One after the other: whoever looked earlier must not have
-- the last word. In the order in which devices name them. By indexes, whatever the tables were like when this was planned: a household begins
-- with empty ones.
CREATE FUNCTION look_at_names(most integer) RETURNS bigint LANGUAGE plpgsql SET enable_seqscan = off SET plan_cache_mode = force_custom_plan AS $$
DECLARE
    who uuid[];
    what bytea[];
    devices uuid[];
    sources text[];
    names text[];
    digests bytea[];
    is_here boolean[];
    is_known boolean[];
BEGIN
    IF NOT EXISTS (SELECT 1 FROM name_change) THEN
        RETURN 0;
    END IF;
    PERFORM pg_advisory_xact_lock(7302);
    WITH taken AS (
        DELETE FROM name_change WHERE id IN (SELECT id FROM name_change ORDER BY id LIMIT most) RETURNING person, digest
    )
    SELECT array_agg(person), array_agg(digest) INTO who, what FROM taken;
    IF who IS NULL THEN
        RETURN 0;
    END IF;
    -- Most of what is named for the first time is not here, and need not be touched.
    SELECT array_agg(g.device ORDER BY g.device, g.source, g.name), array_agg(g.source ORDER BY g.device, g.source, g.name),
           array_agg(g.name ORDER BY g.device, g.source, g.name), array_agg(g.digest ORDER BY g.device, g.source, g.name),
           array_agg(t.here ORDER BY g.device, g.source, g.name), array_agg(t.known ORDER BY g.device, g.source, g.name)
    INTO devices, sources, names, digests, is_here, is_known
    FROM (
        SELECT DISTINCT t.person, t.digest, EXISTS (
                   SELECT 1 FROM original o JOIN counted c ON c.original = o.id WHERE o.person = t.person AND o.digest = t.digest AND c.living AND c.home
               ) AS here, EXISTS (SELECT 1 FROM original o WHERE o.person = t.person AND o.digest = t.digest) AS known
        FROM unnest(who, what) t (person, digest)
    ) t JOIN sighting g ON g.digest = t.digest JOIN device d ON d.id = g.device AND d.person = t.person
    WHERE (g.here, g.known) IS DISTINCT FROM (t.here, t.known);
    IF devices IS NOT NULL THEN
        PERFORM 1 FROM unnest(devices, sources, names) x (device, source, name) JOIN sighting g USING (device, source, name)
        ORDER BY g.device, g.source, g.name FOR UPDATE OF g;
        UPDATE sighting g SET here = x.here, known = x.known
        FROM unnest(devices, sources, names, digests, is_here, is_known) x (device, source, name, digest, here, known)
        WHERE g.device = x.device AND g.source = x.source AND g.name = x.name AND g.digest = x.digest;
    END IF;
    RETURN array_length(who, 1);
END $$;

-- Brings the counts up to date with these originals. Whoever changed one of them waits here for whoever else did, and then sees what both have
-- done; in one order for all, so that nobody waits in a circle.
CREATE FUNCTION count_anew(which uuid[]) RETURNS void LANGUAGE plpgsql SET enable_seqscan = off AS $$
BEGIN
    PERFORM 1 FROM counted WHERE original = ANY(which) ORDER BY original FOR UPDATE;
    WITH now AS MATERIALIZED (
        SELECT n.*, c.original IS NULL OR (n.living AND n.home) <> (c.living AND c.home) AS moved FROM counted_now n LEFT JOIN counted c USING (original)
        WHERE n.original = ANY(which) AND (c.original IS NULL OR
            (n.size, n.kept, n.living, n.month, n.home, n.away, n.proven_at, n.coming, n.stores, n.proofs) IS DISTINCT FROM
            (c.size, c.kept, c.living, c.month, c.home, c.away, c.proven_at, c.coming, c.stores, c.proofs))
    ), changed AS (
        SELECT n.original, ROW(n.original, n.person, n.size, n.landed_at, n.kept, n.living, n.month, n.home, n.away, n.proven_at, n.coming, n.stores,
            n.proofs)::counted AS c FROM now n
    ), added AS (
        INSERT INTO tally_change (about, fact, day, n, bytes)
        SELECT l.about, l.fact, l.day, sum(l.n), sum(l.bytes) FROM (
            SELECT t.*, 1 AS n, (n.c).size AS bytes FROM changed n, counts_of(n.c) t
            UNION ALL
            SELECT t.*, -1, -c.size FROM counted c, counts_of(c) t WHERE c.original IN (SELECT original FROM now)
        ) l GROUP BY l.about, l.fact, l.day HAVING sum(l.n) <> 0 OR sum(l.bytes) <> 0
    ), named AS (
        INSERT INTO name_change (person, digest) SELECT o.person, o.digest FROM now n JOIN original o ON o.id = n.original WHERE n.moved
    )
    INSERT INTO counted SELECT (c).* FROM changed ON CONFLICT (original) DO UPDATE SET
        size = excluded.size, kept = excluded.kept, living = excluded.living, month = excluded.month, home = excluded.home, away = excluded.away,
        proven_at = excluded.proven_at, coming = excluded.coming, stores = excluded.stores, proofs = excluded.proofs;
END $$;

-- All work of a kind, whenever it is due; what is being done, waits for its next try, or has failed is little, and found by an index.
CREATE FUNCTION work_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT '00000000-0000-0000-0000-000000000001', kind, '-infinity', count(*), 0 FROM changed GROUP BY kind;
    RETURN NULL;
END $$;
CREATE FUNCTION work_removed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT '00000000-0000-0000-0000-000000000001', kind, '-infinity', -count(*), 0 FROM changed GROUP BY kind;
    RETURN NULL;
END $$;
CREATE TRIGGER work_counted AFTER INSERT ON job REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION work_added();
CREATE TRIGGER work_counted_no_more AFTER DELETE ON job REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION work_removed();
INSERT INTO tally SELECT '00000000-0000-0000-0000-000000000001', kind, '-infinity', count(*), 0 FROM job GROUP BY kind;

-- What the counts should be, counted in full: the ones that differ, by how much.
CREATE VIEW miscounts AS
    SELECT about, fact, day, sum(n)::bigint AS n, sum(bytes)::bigint AS bytes FROM (
        SELECT t.about, t.fact, t.day, 1 AS n, n.size AS bytes FROM counted_now n, counts_of(ROW(n.*)::counted) t
        UNION ALL SELECT store, 'objects', '-infinity', 1, size FROM object
        UNION ALL SELECT g.device, t.fact, '-infinity', t.n, t.bytes FROM sighting g, counts_of_name(g) t
        UNION ALL SELECT '00000000-0000-0000-0000-000000000001', kind, '-infinity', 1, 0 FROM job
        UNION ALL SELECT about, fact, day, -n, -bytes FROM counts
    ) l GROUP BY about, fact, day HAVING sum(n) <> 0 OR sum(bytes) <> 0;
-- Names that do not know what is here of them, and nobody has said that they are to be looked at again.
CREATE VIEW misnamed AS
    SELECT d.person, g.digest, g.device, g.source, g.name FROM sighting g JOIN device d ON d.id = g.device
    WHERE (g.here, g.known) IS DISTINCT FROM (
        EXISTS (SELECT 1 FROM original o JOIN counted c ON c.original = o.id WHERE o.person = d.person AND o.digest = g.digest AND c.living AND c.home),
        EXISTS (SELECT 1 FROM original o WHERE o.person = d.person AND o.digest = g.digest))
    AND NOT EXISTS (SELECT 1 FROM name_change w WHERE w.person = d.person AND w.digest = g.digest);

-- All of it, in words for a log.
CREATE VIEW discrepancy AS
    SELECT format('%s of %s, %s: %s originals, %s bytes', fact, about, day, n, bytes) AS what FROM miscounts
    UNION ALL SELECT format('%s is remembered otherwise', original) FROM misremembered
    UNION ALL SELECT format('%s of %s does not know what is here of it', name, device) FROM misnamed;

CREATE INDEX sighting_absent ON sighting (device, source, name) WHERE NOT here AND removed_at IS NULL;
CREATE INDEX sighting_refused ON sighting (device, refused) WHERE NOT here AND removed_at IS NULL AND refused IS NOT NULL;
CREATE INDEX job_leased ON job (kind) WHERE lease_end IS NOT NULL;
CREATE INDEX job_error ON job (gave_up DESC, due, id) WHERE error IS NOT NULL;
CREATE INDEX original_held ON original (held_at) WHERE held_at IS NOT NULL AND gone_at IS NULL;
-- What came lately, for what a store will cost.
CREATE INDEX original_taken ON original (taken_at) WHERE gone_at IS NULL;
CREATE INDEX original_gone_at ON original (gone_at) WHERE gone_at IS NOT NULL;
