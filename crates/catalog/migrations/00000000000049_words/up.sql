-- Why: what people say about a picture is how others find it again. Its files may say it themselves, and people may write it; what they wrote counts, and
-- no file is changed by it. The ledgers say what people wrote, so that it comes back with the pictures.
CREATE TABLE words (
    original   uuid NOT NULL REFERENCES original ON DELETE CASCADE,
    -- What the file says itself, as opposed to what somebody wrote.
    of_file    boolean NOT NULL,
    title      text NOT NULL CHECK (char_length(title) <= 200),
    caption    text NOT NULL CHECK (char_length(caption) <= 5000),
    written_by uuid REFERENCES person ON DELETE SET NULL,
    written_at timestamptz,
    PRIMARY KEY (original, of_file),
    CHECK (of_file = (written_at IS NULL)),
    CHECK (NOT of_file OR written_by IS NULL)
);
CREATE INDEX words_written_by ON words (written_by) WHERE written_by IS NOT NULL;

-- What is said about a picture, one row for each that has any: what was written last, else what the file that stands for it says, else another one.
CREATE VIEW said_now AS
    SELECT DISTINCT ON (f.shot) f.shot, f.person, w.original, w.of_file, w.title, w.caption
    FROM words w JOIN original f ON f.id = w.original WHERE f.held_at IS NULL AND f.gone_at IS NULL
    ORDER BY f.shot, w.of_file, w.written_at DESC, f.id <> f.shot, f.part, f.id;

-- As what is typed is compared with it. It says "plain" once more: see the other `searchable`.
CREATE FUNCTION searchable(title text, caption text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
    AS $$ SELECT lower(public.unaccent('public.unaccent'::regdictionary, concat_ws(E'\n', title, caption))) $$;
-- The same, kept: people look for pictures by it, and to ask each file that has a word whether that counts takes half a second with twenty thousand.
CREATE TABLE said (
    -- Not a reference: after a recovery a file may be there before the one that stands for its picture is.
    shot     uuid PRIMARY KEY,
    person   uuid NOT NULL,
    original uuid NOT NULL,
    of_file  boolean NOT NULL,
    title    text NOT NULL,
    caption  text NOT NULL,
    searched text NOT NULL GENERATED ALWAYS AS (searchable(title, caption)) STORED
);
CREATE INDEX said_searched ON said USING gin (searched gin_trgm_ops);
CREATE FUNCTION say_anew(shots uuid[]) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    -- Whoever changes other words of one of them waits here, and sees these. Rows, and no locks by number: those would be too many for a server's memory.
    PERFORM 1 FROM original WHERE shot = ANY (shots) ORDER BY id FOR NO KEY UPDATE;
    DELETE FROM said WHERE shot = ANY (shots);
    INSERT INTO said (shot, person, original, of_file, title, caption)
    SELECT shot, person, original, of_file, title, caption FROM said_now WHERE shot = ANY (shots);
END $$;
CREATE FUNCTION words_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM say_anew(array_agg(DISTINCT o.shot)) FROM changed JOIN original o ON o.id = changed.original HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE TRIGGER words_added AFTER INSERT ON words REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION words_changed();
CREATE TRIGGER words_changed AFTER UPDATE ON words REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION words_changed();
CREATE TRIGGER words_removed AFTER DELETE ON words REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION words_changed();
-- A file that goes to another picture, is deleted, or is back, takes its words along.
CREATE FUNCTION words_moved() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM say_anew(array_agg(s)) FROM after n JOIN before o USING (id), unnest(ARRAY[o.shot, n.shot]) s
    WHERE (n.shot, n.part, n.held_at, n.gone_at) IS DISTINCT FROM (o.shot, o.part, o.held_at, o.gone_at) AND EXISTS (SELECT FROM words WHERE original = n.id)
    HAVING count(*) > 0;
    RETURN NULL;
END $$;
CREATE TRIGGER original_words_moved AFTER UPDATE ON original REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION words_moved();

-- What is kept otherwise than it is, and what mends that.
CREATE VIEW missaid AS
    SELECT shot FROM said_now n FULL JOIN said s USING (shot)
    WHERE (n.person, n.original, n.of_file, n.title, n.caption) IS DISTINCT FROM (s.person, s.original, s.of_file, s.title, s.caption);
CREATE OR REPLACE VIEW discrepancy AS
    SELECT format('%s of %s, %s: %s originals, %s bytes', fact, about, day, n, bytes) AS what FROM miscounts
    UNION ALL SELECT format('%s is remembered otherwise', original) FROM misremembered
    UNION ALL SELECT format('%s of %s does not know what is here of it', name, device) FROM misnamed
    UNION ALL SELECT format('of %s in the cell %s of level %s: %s pictures', person, cell, level, n) FROM miscounted_spots
    UNION ALL SELECT format('of %s near the town %s: %s pictures', person, town, n) FROM miscounted_towns
    UNION ALL SELECT format('what is said about %s is kept otherwise', shot) FROM missaid;
CREATE OR REPLACE FUNCTION count_right() RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    -- Whoever counts waits until what is there and what is remembered are the same.
    LOCK TABLE counted, tally, tally_change, spot_tally, spot_change, town_tally, words, said IN EXCLUSIVE MODE;
    INSERT INTO tally_change (about, fact, day, n, bytes) SELECT about, fact, day, n, bytes FROM miscounts;
    INSERT INTO name_change (person, digest) SELECT person, digest FROM misnamed;
    INSERT INTO counted SELECT * FROM misremembered ON CONFLICT (original) DO UPDATE SET size = excluded.size, kept = excluded.kept,
        living = excluded.living, month = excluded.month, home = excluded.home, away = excluded.away,
        proven_at = excluded.proven_at, coming = excluded.coming, stores = excluded.stores, proofs = excluded.proofs;
    INSERT INTO spot_tally AS t SELECT person, level, cell, n, x, y FROM miscounted_spots
    ON CONFLICT (person, level, cell) DO UPDATE SET n = t.n + excluded.n, x = t.x + excluded.x, y = t.y + excluded.y;
    INSERT INTO town_tally AS t SELECT person, town, n FROM miscounted_towns ON CONFLICT (person, town) DO UPDATE SET n = t.n + excluded.n;
    PERFORM say_anew(array_agg(shot)) FROM missaid HAVING count(*) > 0;
END $$;

-- Whoever writes what the file says, writes its words.
CREATE FUNCTION file_says() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        DELETE FROM words WHERE original = NEW.id AND of_file;
    END IF;
    IF concat(NEW.facts ->> 'title', NEW.facts ->> 'caption') <> '' THEN
        INSERT INTO words (original, of_file, title, caption)
        VALUES (NEW.id, true, left(concat(NEW.facts ->> 'title'), 200), left(concat(NEW.facts ->> 'caption'), 5000));
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER original_says AFTER INSERT ON original FOR EACH ROW WHEN (concat(NEW.facts ->> 'title', NEW.facts ->> 'caption') <> '')
    EXECUTE FUNCTION file_says();
CREATE TRIGGER original_says_anew AFTER UPDATE OF facts ON original FOR EACH ROW
    WHEN ((NEW.facts ->> 'title', NEW.facts ->> 'caption') IS DISTINCT FROM (OLD.facts ->> 'title', OLD.facts ->> 'caption')) EXECUTE FUNCTION file_says();

-- What people wrote is said again by the ledgers, as their favourites are.
CREATE TRIGGER words_said AFTER INSERT ON words FOR EACH ROW WHEN (NOT NEW.of_file) EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER words_said_anew AFTER UPDATE OF title, caption ON words FOR EACH ROW WHEN (NOT NEW.of_file) EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER words_said_no_more AFTER DELETE ON words FOR EACH ROW WHEN (NOT OLD.of_file) EXECUTE FUNCTION ledgers_say_whose_favourite();

-- What came before words were read: background work reads these once.
CREATE INDEX original_words_unread ON original (id)
    WHERE NOT facts ? 'caption' AND kind IN ('photo', 'raw', 'video', 'sidecar') AND held_at IS NULL AND gone_at IS NULL;
INSERT INTO job (kind, key, priority, due)
SELECT 'words', '00000000-0000-0000-0000-000000000000', 25, now()
WHERE EXISTS (SELECT FROM original WHERE NOT facts ? 'caption' AND kind IN ('photo', 'raw', 'video', 'sidecar') AND held_at IS NULL AND gone_at IS NULL);

-- A zip has what people wrote beside their pictures: such a file is nowhere in the library.
ALTER TABLE zip_file ADD COLUMN text bytea;
