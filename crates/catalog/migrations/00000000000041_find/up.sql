-- Why: people look for pictures by the names of files and folders, by what took them, by kind and by what sent them, mixed with days; a million of
-- them are not gone through for that.

CREATE EXTENSION IF NOT EXISTS pg_trgm;
CREATE EXTENSION IF NOT EXISTS unaccent;

-- Small letters without accents. The dictionary is a file that comes with PostgreSQL: should that of another version have other letters, words
-- with them are found again after a REINDEX.
CREATE FUNCTION plain(text) RETURNS text LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE
    AS $$ SELECT lower(public.unaccent('public.unaccent'::regdictionary, $1)) $$;

-- What a picture is found by: its name, the folder on its device, where it is filed (below its member's own folder, which all share), its lens.
-- It says "plain" once more: a copy of the database is put back in an order that knows of functions in columns, and of none in functions.
CREATE FUNCTION searchable(name text, source text, path text, facts jsonb) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
    AS $$ SELECT lower(public.unaccent('public.unaccent'::regdictionary, concat_ws(E'\n', name, source, substr(path, strpos(path, '/') + 1), facts ->> 'lens'))) $$;

-- Columns, and no expressions in indexes: the planner knows how many rows are like that, and a row that is looked at need not be folded anew. Of
-- "shot = id" it believes that one row in two hundred is so, and goes through all of them.
ALTER TABLE original
    ADD COLUMN leads    boolean NOT NULL GENERATED ALWAYS AS (shot = id) STORED,
    ADD COLUMN camera   text GENERATED ALWAYS AS (facts ->> 'camera') STORED,
    ADD COLUMN searched text NOT NULL GENERATED ALWAYS AS (searchable(name, source, path, facts)) STORED;

DROP INDEX original_shown;
CREATE INDEX original_shown ON original (person, taken_local DESC, id DESC) WHERE leads AND held_at IS NULL AND gone_at IS NULL;
CREATE INDEX original_searched ON original USING gin (searched gin_trgm_ops) WHERE held_at IS NULL AND gone_at IS NULL;
-- Each with all that a count by months asks of it. A raw file may stand behind another one.
CREATE INDEX original_kind ON original (person, kind, taken_local DESC, id DESC) INCLUDE (leads, shot) WHERE held_at IS NULL AND gone_at IS NULL;
CREATE INDEX original_device ON original (person, device, taken_local DESC, id DESC) WHERE leads AND held_at IS NULL AND gone_at IS NULL;
CREATE INDEX original_camera ON original (person, camera, taken_local DESC, id DESC)
    WHERE camera IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL;
