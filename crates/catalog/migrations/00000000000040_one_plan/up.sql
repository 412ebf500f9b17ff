-- Why: most of what a picture cost the database when it landed was finding out anew how to count it: 3 ms of planning for 0.5 ms of counting. A
-- plan for one original seems cheaper than one for the ten that PostgreSQL thinks of when it does not look, so it looked every time. There is
-- one way to do it, by the indexes, for one and for ten thousand.
ALTER FUNCTION count_anew(uuid[]) SET plan_cache_mode = force_generic_plan;

-- What names anything is "insert, or update what is there", and wakes both of these; there is something to do for one of them.
CREATE OR REPLACE FUNCTION names_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NOT EXISTS (SELECT FROM changed) THEN
        RETURN NULL;
    END IF;
    INSERT INTO tally_change (about, fact, day, n, bytes)
    SELECT c.device, t.fact, '-infinity', sum(t.n), sum(t.bytes) FROM changed c, counts_of_name(ROW(c.*)::sighting) t GROUP BY c.device, t.fact;
    INSERT INTO name_change (person, digest) SELECT DISTINCT d.person, c.digest FROM changed c JOIN device d ON d.id = c.device;
    PERFORM count_names(s.device, s.name, s.n) FROM (
        SELECT s.device, s.name, count(*) AS n FROM changed c JOIN device_source s ON s.device = c.device AND s.name = c.source AND c.seen_at >= s.told_at
        GROUP BY s.device, s.name ORDER BY s.device, s.name
    ) s;
    RETURN NULL;
END $$;
CREATE OR REPLACE FUNCTION names_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NOT EXISTS (SELECT FROM after) THEN
        RETURN NULL;
    END IF;
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
