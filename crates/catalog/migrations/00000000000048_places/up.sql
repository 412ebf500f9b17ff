-- Why: people look for pictures by where they were taken, by name and on a map; a million of them are not gone through for that. Each has the cell of
-- the earth that it was taken in (`core::spot`; a test holds the two together), and the nearest town, which background work finds. How many there are
-- in each cell, at each of several sizes, and near each town, is counted when it changes.

-- The bits of a number, with a gap after each; and the other way round.
CREATE FUNCTION bits_apart(v bigint) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
BEGIN
    v := (v | (v << 16)) & x'0000ffff0000ffff'::bigint;
    v := (v | (v << 8)) & x'00ff00ff00ff00ff'::bigint;
    v := (v | (v << 4)) & x'0f0f0f0f0f0f0f0f'::bigint;
    v := (v | (v << 2)) & x'3333333333333333'::bigint;
    RETURN (v | (v << 1)) & x'5555555555555555'::bigint;
END $$;
CREATE FUNCTION bits_together(v bigint) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
BEGIN
    v := v & x'5555555555555555'::bigint;
    v := (v | (v >> 1)) & x'3333333333333333'::bigint;
    v := (v | (v >> 2)) & x'0f0f0f0f0f0f0f0f'::bigint;
    v := (v | (v >> 4)) & x'00ff00ff00ff00ff'::bigint;
    v := (v | (v >> 8)) & x'0000ffff0000ffff'::bigint;
    RETURN (v | (v >> 16)) & x'00000000ffffffff'::bigint;
END $$;
-- The cell of a picture, from what its file says: degrees north and east. None: it says nothing, or what is no place.
CREATE FUNCTION spot_of(facts jsonb) RETURNS bigint LANGUAGE plpgsql IMMUTABLE PARALLEL SAFE AS $$
DECLARE
    north double precision;
    east  double precision;
    x     bigint;
    y     bigint;
BEGIN
    IF jsonb_typeof(facts -> 'place') IS DISTINCT FROM 'array' OR jsonb_typeof(facts -> 'place' -> 0) IS DISTINCT FROM 'number'
        OR jsonb_typeof(facts -> 'place' -> 1) IS DISTINCT FROM 'number' THEN
        RETURN NULL;
    END IF;
    north := facts -> 'place' -> 0;
    east := facts -> 'place' -> 1;
    IF abs(north) > 90 OR abs(east) > 180 THEN
        RETURN NULL;
    END IF;
    x := least((round(east * 1e6)::bigint + 180000000) * 16777216 / 360000000, 16777215);
    y := least((round(north * 1e6)::bigint + 90000000) * 16777216 / 180000000, 16777215);
    RETURN bits_apart(x) | (bits_apart(y) << 1);
END $$;
-- Its column, from the west, and its row, from the south.
CREATE FUNCTION spot_column(spot bigint) RETURNS bigint LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE AS $$ SELECT bits_together(spot) $$;
CREATE FUNCTION spot_row(spot bigint) RETURNS bigint LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE AS $$ SELECT bits_together(spot >> 1) $$;

-- Towns that pictures were taken near. Where one is: its cell.
CREATE TABLE town (
    id      integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name    text NOT NULL,
    region  text NOT NULL,
    country text NOT NULL,
    north   double precision NOT NULL CHECK (abs(north) <= 90),
    east    double precision NOT NULL CHECK (abs(east) <= 180),
    UNIQUE (name, region, country, north, east)
);

ALTER TABLE original
    ADD COLUMN spot bigint CONSTRAINT original_spot CHECK (spot >= 0 AND spot < 1::bigint << 48),
    ADD COLUMN town integer REFERENCES town,
    ADD CONSTRAINT original_town CHECK (town IS NULL OR spot IS NOT NULL);
UPDATE original SET spot = spot_of(facts) WHERE facts ? 'place';

-- Whoever writes what the file says, writes where it was taken.
CREATE FUNCTION original_taken_somewhere() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.spot := spot_of(NEW.facts);
    -- Within 150 m of another picture of theirs, the town is the same. A few of them are looked at: of thousands that arrive together, none has one yet.
    NEW.town := (
        SELECT near.town FROM (
            SELECT o.town FROM original o
            WHERE o.person = NEW.person AND o.spot >= NEW.spot >> 12 << 12 AND o.spot < ((NEW.spot >> 12) + 1) << 12
              AND o.leads AND o.held_at IS NULL AND o.gone_at IS NULL
            LIMIT 20
        ) near WHERE near.town IS NOT NULL LIMIT 1
    );
    RETURN NEW;
END $$;
CREATE TRIGGER original_taken_somewhere BEFORE INSERT ON original FOR EACH ROW WHEN (NEW.facts ? 'place')
    EXECUTE FUNCTION original_taken_somewhere();
CREATE TRIGGER original_taken_elsewhere BEFORE UPDATE OF facts ON original FOR EACH ROW
    WHEN ((NEW.facts -> 'place') IS DISTINCT FROM (OLD.facts -> 'place')) EXECUTE FUNCTION original_taken_somewhere();

CREATE INDEX original_no_town ON original (person, spot) WHERE spot IS NOT NULL AND town IS NULL;
INSERT INTO job (kind, key, priority, due) SELECT DISTINCT ON (person) 'town', id, 24, now() FROM original WHERE spot IS NOT NULL ORDER BY person, id;

CREATE INDEX original_spotted ON original (person, spot) WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL;
CREATE INDEX original_near ON original (person, town, taken_local DESC, id DESC)
    WHERE town IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL;

-- The counts of what is shown: in each cell of the levels that a map asks for, with the sums of columns (x) and rows (y), from which the middle follows.
CREATE TABLE spot_tally (
    person  uuid NOT NULL,
    level   smallint NOT NULL,
    cell    bigint NOT NULL,
    n       bigint NOT NULL,
    x      bigint NOT NULL,
    y      bigint NOT NULL,
    PRIMARY KEY (person, level, cell)
);
CREATE TABLE town_tally (
    person uuid NOT NULL,
    town   integer NOT NULL,
    n      bigint NOT NULL,
    PRIMARY KEY (person, town)
);
-- What is to be added to them, as `tally_change` to `tally`.
CREATE TABLE spot_change (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person uuid NOT NULL,
    spot   bigint NOT NULL,
    town   integer,
    n      bigint NOT NULL
);
-- The work of finding towns: a line for each picture, so that nobody who lands one waits for another; whoever takes one of them names all that its person has.
CREATE FUNCTION town_wanted(original uuid, came timestamptz) RETURNS void LANGUAGE sql AS $$
    INSERT INTO job (kind, key, priority, due) VALUES ('town', original, 24, came + interval '3 seconds')
    ON CONFLICT (kind, key, store) DO UPDATE SET wishes = job.wishes + 1, gave_up = false,
        attempts = CASE WHEN job.gave_up THEN 0 ELSE job.attempts END,
        due = CASE WHEN job.lease_end IS NOT NULL THEN excluded.due
                   WHEN job.error IS NULL OR job.gave_up THEN least(job.due, excluded.due) ELSE job.due END
$$;
CREATE FUNCTION spots_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM town_wanted(id, landed_at) FROM changed WHERE spot IS NOT NULL AND town IS NULL;
    INSERT INTO spot_change (person, spot, town, n)
    SELECT person, spot, town, count(*) FROM changed WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL GROUP BY person, spot, town;
    RETURN NULL;
END $$;
CREATE FUNCTION spots_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM town_wanted(n.id, n.landed_at) FROM after n JOIN before o USING (id)
    WHERE n.spot IS NOT NULL AND n.town IS NULL AND n.spot IS DISTINCT FROM o.spot;
    INSERT INTO spot_change (person, spot, town, n)
    SELECT person, spot, town, sum(n) FROM (
        SELECT person, spot, town, 1 AS n FROM after WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL
        UNION ALL SELECT person, spot, town, -1 FROM before WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL
    ) c GROUP BY person, spot, town HAVING sum(n) <> 0;
    RETURN NULL;
END $$;
CREATE TRIGGER spot_counted AFTER INSERT ON original REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION spots_added();
CREATE TRIGGER spot_counted_anew AFTER UPDATE ON original REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION spots_changed();

-- The levels that pictures are counted at.
CREATE FUNCTION spot_levels() RETURNS SETOF integer LANGUAGE sql IMMUTABLE AS $$ SELECT generate_series(4, 18, 2) $$;
CREATE FUNCTION fold_spots(most integer) RETURNS bigint LANGUAGE sql AS $$
    WITH taken AS (
        DELETE FROM spot_change WHERE id IN (SELECT id FROM spot_change ORDER BY id LIMIT most FOR UPDATE SKIP LOCKED)
        RETURNING person, spot, town, n
    ), cells AS (
        INSERT INTO spot_tally AS t
        SELECT person, level, spot >> (2 * (24 - level)) AS cell, sum(n), sum(n * spot_column(spot)), sum(n * spot_row(spot))
        FROM taken, spot_levels() level GROUP BY person, level, cell ORDER BY person, level, cell
        ON CONFLICT (person, level, cell) DO UPDATE SET n = t.n + excluded.n, x = t.x + excluded.x, y = t.y + excluded.y
    ), towns AS (
        INSERT INTO town_tally AS t SELECT person, town, sum(n) FROM taken WHERE town IS NOT NULL GROUP BY person, town ORDER BY person, town
        ON CONFLICT (person, town) DO UPDATE SET n = t.n + excluded.n
    )
    SELECT count(*) FROM taken
$$;
-- What adds up to the counts at this moment.
CREATE VIEW spot_count AS
    SELECT person, level, cell, n, x, y FROM spot_tally
    UNION ALL SELECT person, level::smallint, spot >> (2 * (24 - level)), n, n * spot_column(spot), n * spot_row(spot) FROM spot_change, spot_levels() level;
CREATE VIEW town_count AS
    SELECT person, town, n FROM town_tally UNION ALL SELECT person, town, n FROM spot_change WHERE town IS NOT NULL;

INSERT INTO spot_change (person, spot, town, n)
SELECT person, spot, town, count(*) FROM original WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL GROUP BY person, spot, town;
SELECT fold_spots(2147483647);

-- What is counted otherwise than it is.
CREATE VIEW miscounted_spots AS
    WITH so AS (
        SELECT person, level::smallint, spot >> (2 * (24 - level)) AS cell, count(*) AS n, sum(spot_column(spot))::bigint AS x, sum(spot_row(spot))::bigint AS y
        FROM original, spot_levels() level WHERE spot IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL GROUP BY person, level, cell
    ), told AS (
        SELECT person, level, cell, sum(n)::bigint AS n, sum(x)::bigint AS x, sum(y)::bigint AS y FROM spot_count GROUP BY person, level, cell
    )
    SELECT person, level, cell, coalesce(so.n, 0) - coalesce(told.n, 0) AS n, coalesce(so.x, 0) - coalesce(told.x, 0) AS x,
           coalesce(so.y, 0) - coalesce(told.y, 0) AS y
    FROM so FULL JOIN told USING (person, level, cell)
    WHERE (so.n, so.x, so.y) IS DISTINCT FROM (told.n, told.x, told.y) AND NOT (so.n IS NULL AND told.n = 0 AND told.x = 0 AND told.y = 0);
CREATE VIEW miscounted_towns AS
    WITH so AS (
        SELECT person, town, count(*) AS n FROM original WHERE town IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL GROUP BY person, town
    ), told AS (
        SELECT person, town, sum(n)::bigint AS n FROM town_count GROUP BY person, town
    )
    SELECT person, town, coalesce(so.n, 0) - coalesce(told.n, 0) AS n FROM so FULL JOIN told USING (person, town)
    WHERE coalesce(so.n, 0) <> coalesce(told.n, 0);
CREATE OR REPLACE VIEW discrepancy AS
    SELECT format('%s of %s, %s: %s originals, %s bytes', fact, about, day, n, bytes) AS what FROM miscounts
    UNION ALL SELECT format('%s is remembered otherwise', original) FROM misremembered
    UNION ALL SELECT format('%s of %s does not know what is here of it', name, device) FROM misnamed
    UNION ALL SELECT format('of %s in the cell %s of level %s: %s pictures', person, cell, level, n) FROM miscounted_spots
    UNION ALL SELECT format('of %s near the town %s: %s pictures', person, town, n) FROM miscounted_towns;

-- Makes what is counted what is there.
CREATE FUNCTION count_right() RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    -- Whoever counts waits until what is there and what is remembered are the same.
    LOCK TABLE counted, tally, tally_change, spot_tally, spot_change, town_tally IN EXCLUSIVE MODE;
    INSERT INTO tally_change (about, fact, day, n, bytes) SELECT about, fact, day, n, bytes FROM miscounts;
    INSERT INTO name_change (person, digest) SELECT person, digest FROM misnamed;
    INSERT INTO counted SELECT * FROM misremembered ON CONFLICT (original) DO UPDATE SET size = excluded.size, kept = excluded.kept,
        living = excluded.living, month = excluded.month, home = excluded.home, away = excluded.away,
        proven_at = excluded.proven_at, coming = excluded.coming, stores = excluded.stores, proofs = excluded.proofs;
    INSERT INTO spot_tally AS t SELECT person, level, cell, n, x, y FROM miscounted_spots
    ON CONFLICT (person, level, cell) DO UPDATE SET n = t.n + excluded.n, x = t.x + excluded.x, y = t.y + excluded.y;
    INSERT INTO town_tally AS t SELECT person, town, n FROM miscounted_towns ON CONFLICT (person, town) DO UPDATE SET n = t.n + excluded.n;
END $$;
