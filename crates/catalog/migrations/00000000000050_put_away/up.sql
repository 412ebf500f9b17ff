-- Why: a receipt, a screenshot, a picture of the meter: kept as safe as the others, and in nobody's way. What was put away is in its person's library
-- only for those who ask for it; in albums it stays what it was. All files of a picture are, or none.
ALTER TABLE original ADD COLUMN put_away boolean NOT NULL DEFAULT false;

DROP INDEX original_shown;
CREATE INDEX original_shown ON original (person, taken_local DESC, id DESC) WHERE leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL;
CREATE INDEX original_put_away ON original (person, taken_local DESC, id DESC) WHERE leads AND put_away AND held_at IS NULL AND gone_at IS NULL;

DROP INDEX original_spotted;
CREATE INDEX original_spotted ON original (person, spot)
    WHERE spot IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL;
DROP INDEX original_near;
CREATE INDEX original_near ON original (person, town, taken_local DESC, id DESC)
    WHERE town IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL;
CREATE OR REPLACE FUNCTION original_taken_somewhere() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.spot := spot_of(NEW.facts);
    -- Within 150 m of another picture of theirs, the town is the same. A few of them are looked at: of thousands that arrive together, none has one yet.
    NEW.town := (
        SELECT near.town FROM (
            SELECT o.town FROM original o
            WHERE o.person = NEW.person AND o.spot >= NEW.spot >> 12 << 12 AND o.spot < ((NEW.spot >> 12) + 1) << 12
              AND o.leads AND NOT o.put_away AND o.held_at IS NULL AND o.gone_at IS NULL
            LIMIT 20
        ) near WHERE near.town IS NOT NULL LIMIT 1
    );
    RETURN NEW;
END $$;

CREATE TRIGGER put_away_said AFTER UPDATE OF put_away ON original FOR EACH ROW WHEN (NEW.put_away <> OLD.put_away)
    EXECUTE FUNCTION ledgers_say_it_anew();

-- What is counted by month is what is shown.
CREATE OR REPLACE VIEW counted_now AS
    SELECT o.id AS original, o.person, o.size, o.landed_at, o.gone_at IS NULL AS kept, o.held_at IS NULL AND o.gone_at IS NULL AS living,
           -- The month it is shown in; none for what another file stands for, or what was put away.
           CASE WHEN o.shot = o.id AND NOT o.put_away AND o.held_at IS NULL AND o.gone_at IS NULL THEN date_trunc('month', o.taken_local)::date END AS month,
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
CREATE OR REPLACE FUNCTION originals_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM count_anew(array_agg(n.id)) FROM after n JOIN before o USING (id)
    WHERE (n.size, n.taken_local, n.shot, n.put_away, n.held_at, n.gone_at) IS DISTINCT FROM (o.size, o.taken_local, o.shot, o.put_away, o.held_at, o.gone_at)
    HAVING count(*) > 0;
    RETURN NULL;
END $$;

-- And so is what is counted by place.
CREATE OR REPLACE FUNCTION spots_added() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM town_wanted(id, landed_at) FROM changed WHERE spot IS NOT NULL AND town IS NULL;
    INSERT INTO spot_change (person, spot, town, n)
    SELECT person, spot, town, count(*) FROM changed
    WHERE spot IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL GROUP BY person, spot, town;
    RETURN NULL;
END $$;
CREATE OR REPLACE FUNCTION spots_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM town_wanted(n.id, n.landed_at) FROM after n JOIN before o USING (id)
    WHERE n.spot IS NOT NULL AND n.town IS NULL AND n.spot IS DISTINCT FROM o.spot;
    INSERT INTO spot_change (person, spot, town, n)
    SELECT person, spot, town, sum(n) FROM (
        SELECT person, spot, town, 1 AS n FROM after WHERE spot IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL
        UNION ALL SELECT person, spot, town, -1 FROM before WHERE spot IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL
    ) c GROUP BY person, spot, town HAVING sum(n) <> 0;
    RETURN NULL;
END $$;
CREATE OR REPLACE VIEW miscounted_spots AS
    WITH so AS (
        SELECT person, level::smallint, spot >> (2 * (24 - level)) AS cell, count(*) AS n, sum(spot_column(spot))::bigint AS x, sum(spot_row(spot))::bigint AS y
        FROM original, spot_levels() level WHERE spot IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL GROUP BY person, level, cell
    ), told AS (
        SELECT person, level, cell, sum(n)::bigint AS n, sum(x)::bigint AS x, sum(y)::bigint AS y FROM spot_count GROUP BY person, level, cell
    )
    SELECT person, level, cell, coalesce(so.n, 0) - coalesce(told.n, 0) AS n, coalesce(so.x, 0) - coalesce(told.x, 0) AS x,
           coalesce(so.y, 0) - coalesce(told.y, 0) AS y
    FROM so FULL JOIN told USING (person, level, cell)
    WHERE (so.n, so.x, so.y) IS DISTINCT FROM (told.n, told.x, told.y) AND NOT (so.n IS NULL AND told.n = 0 AND told.x = 0 AND told.y = 0);
CREATE OR REPLACE VIEW miscounted_towns AS
    WITH so AS (
        SELECT person, town, count(*) AS n FROM original
        WHERE town IS NOT NULL AND leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL GROUP BY person, town
    ), told AS (
        SELECT person, town, sum(n)::bigint AS n FROM town_count GROUP BY person, town
    )
    SELECT person, town, coalesce(so.n, 0) - coalesce(told.n, 0) AS n FROM so FULL JOIN told USING (person, town)
    WHERE coalesce(so.n, 0) <> coalesce(told.n, 0);
