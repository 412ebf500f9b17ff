-- Why: people gather pictures in albums, alone or together. Whoever an album is shared with sees the pictures in it, and no others of their owners. The
-- ledgers say which albums there are and what is in each, so that they come back with the pictures.
CREATE TABLE album (
    id        uuid PRIMARY KEY,
    person    uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    name      text NOT NULL,
    words     text NOT NULL DEFAULT '',
    -- What everybody may who lives here; null: nothing, unless they are named.
    household text CHECK (household IN ('look', 'add')),
    -- Not a reference: after a recovery the album is there before its pictures are.
    cover     uuid,
    made_at   timestamptz NOT NULL
);
CREATE INDEX album_person ON album (person);

CREATE TABLE album_share (
    album  uuid NOT NULL REFERENCES album ON DELETE CASCADE,
    person uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    may    text NOT NULL CHECK (may IN ('look', 'add')),
    PRIMARY KEY (album, person)
);
CREATE INDEX album_share_person ON album_share (person);

CREATE TABLE album_picture (
    album    uuid NOT NULL REFERENCES album ON DELETE CASCADE,
    original uuid NOT NULL REFERENCES original ON DELETE CASCADE,
    added_by uuid REFERENCES person ON DELETE SET NULL,
    added_at timestamptz NOT NULL,
    PRIMARY KEY (album, original)
);
CREATE INDEX album_picture_original ON album_picture (original);

-- Who may do what with which album: 3 it is theirs, 2 add, 1 look. Somebody may be there twice; the most counts. Guests are seen to by name alone.
CREATE VIEW album_seen AS
    SELECT id AS album, person, 3::smallint AS may FROM album
    UNION ALL
    SELECT album, person, CASE may WHEN 'add' THEN 2::smallint ELSE 1::smallint END FROM album_share
    UNION ALL
    SELECT a.id, p.id, CASE a.household WHEN 'add' THEN 2::smallint ELSE 1::smallint END
    FROM album a JOIN person p ON p.role <> 'guest' WHERE a.household IS NOT NULL;

-- Which pictures are in an album, by the file that stands for each now: what a picture is in, it is in by any of its files.
CREATE VIEW in_album AS
    SELECT p.album, f.shot FROM album_picture p JOIN original f ON f.id = p.original;

-- Which pictures somebody sees because an album has them.
CREATE VIEW shown_to AS
    SELECT f.shot, s.person FROM original f JOIN album_picture p ON p.original = f.id JOIN album_seen s ON s.album = p.album;

-- The same as of favourites: the copies of what is put in or taken out are said again.
CREATE TRIGGER album_picture_said AFTER INSERT OR DELETE ON album_picture FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
