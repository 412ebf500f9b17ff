-- Why: a folder of the library is gone through from one file to the next, and from one folder behind all that is in it, however much that is. By the index of
-- paths, whatever the tables were like when this was planned: a household begins with empty ones. `after` and `before`: between them is all that is in the folder.
CREATE FUNCTION in_folder(who uuid, after text, before text, most integer) RETURNS SETOF text LANGUAGE plpgsql STABLE
SET enable_seqscan = off SET enable_bitmapscan = off SET enable_sort = off AS $$
DECLARE
    at    text := after;
    found_ text;
    path_ text;
    rest  text;
BEGIN
    FOR n IN 1..most LOOP
        SELECT o.folded, o.path INTO found_, path_ FROM original o
        WHERE o.folded >= at AND o.folded < before AND o.person = who AND o.held_at IS NULL AND o.gone_at IS NULL ORDER BY o.folded LIMIT 1;
        EXIT WHEN NOT FOUND;
        RETURN NEXT path_;
        rest := substr(found_, length(after) + 1);
        -- "0" follows "/" in the order of all letters, and no letter comes before the first.
        at := CASE WHEN strpos(rest, '/') > 0 THEN after || split_part(rest, '/', 1) || '0' ELSE found_ || chr(1) END;
    END LOOP;
END $$;
