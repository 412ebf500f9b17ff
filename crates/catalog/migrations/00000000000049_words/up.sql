-- Why: what people say about a picture is how others find it again. Its files may say it themselves, and people may write it; what they wrote counts, and
-- no file is changed by it. The ledgers say what people wrote, so that it comes back with the pictures.
-- As what is typed is compared with it. It says "plain" once more: see `searchable`.
CREATE FUNCTION searchable(title text, caption text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
    AS $$ SELECT lower(public.unaccent('public.unaccent'::regdictionary, concat_ws(E'\n', title, caption))) $$;

CREATE TABLE words (
    original   uuid NOT NULL REFERENCES original ON DELETE CASCADE,
    -- What the file says itself, as opposed to what somebody wrote.
    of_file    boolean NOT NULL,
    title      text NOT NULL CHECK (char_length(title) <= 200),
    caption    text NOT NULL CHECK (char_length(caption) <= 5000),
    written_by uuid REFERENCES person ON DELETE SET NULL,
    written_at timestamptz,
    searched   text NOT NULL GENERATED ALWAYS AS (searchable(title, caption)) STORED,
    PRIMARY KEY (original, of_file),
    CHECK (of_file = (written_at IS NULL)),
    CHECK (NOT of_file OR written_by IS NULL)
);
CREATE INDEX words_searched ON words USING gin (searched gin_trgm_ops);
CREATE INDEX words_written_by ON words (written_by) WHERE written_by IS NOT NULL;

-- What is said about a picture, one row for each that has any: what was written last, else what the file that stands for it says, else another one.
CREATE VIEW said AS
    SELECT DISTINCT ON (f.shot) f.shot, w.original, w.of_file, w.title, w.caption, w.written_by, w.written_at
    FROM words w JOIN original f ON f.id = w.original WHERE f.held_at IS NULL AND f.gone_at IS NULL
    ORDER BY f.shot, w.of_file, w.written_at DESC, f.id <> f.shot, f.part, f.id;

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
