-- Why: a note beside files goes to another picture when an older one of its name comes. It took along what somebody had said of the picture that it lay
-- beside before, and gave it to the other one. A note has what its picture has, and nothing of its own.
CREATE OR REPLACE FUNCTION given_to_all(shots uuid[]) RETURNS SETOF uuid LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM given_place n USING original f WHERE f.id = n.original AND f.kind = 'sidecar' AND f.shot = ANY (shots)
    AND EXISTS (SELECT FROM original p WHERE p.shot = f.shot AND p.kind <> 'sidecar' AND p.held_at IS NULL AND p.gone_at IS NULL)
    AND NOT EXISTS (
        SELECT FROM given_place g JOIN original p ON p.id = g.original
        WHERE p.shot = f.shot AND p.kind <> 'sidecar' AND g.north IS NOT DISTINCT FROM n.north AND g.east IS NOT DISTINCT FROM n.east
    );
    RETURN QUERY WITH left_behind AS (
        DELETE FROM given_time n USING original f WHERE f.id = n.original AND f.kind = 'sidecar' AND f.shot = ANY (shots)
        AND EXISTS (SELECT FROM original p WHERE p.shot = f.shot AND p.kind <> 'sidecar' AND p.held_at IS NULL AND p.gone_at IS NULL)
        AND NOT EXISTS (
            SELECT FROM given_time g JOIN original p ON p.id = g.original
            WHERE p.shot = f.shot AND p.kind <> 'sidecar' AND g.seconds = n.seconds
        )
        RETURNING n.original, n.seconds
    )
    UPDATE original o SET taken_at = o.taken_at - make_interval(secs => l.seconds), taken_local = o.taken_local - make_interval(secs => l.seconds)
    FROM left_behind l WHERE o.id = l.original RETURNING o.id;
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
