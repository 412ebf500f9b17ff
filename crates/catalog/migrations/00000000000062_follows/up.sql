-- Why: an album can follow a line of words, as people look for pictures with: what of its owner's pictures the line finds is in it by itself. What came in so goes
-- out so, once it is not found any more; what somebody put in stays. How the line was read when it was written is kept with it: a line that means something else by
-- now (its device was renamed) changes nothing until its owner has seen to it.
ALTER TABLE album ADD COLUMN follows text CHECK (char_length(follows) BETWEEN 1 AND 500);
ALTER TABLE album ADD COLUMN follows_as text CHECK ((follows_as IS NULL) = (follows IS NULL));
CREATE INDEX album_follows ON album (person) WHERE follows IS NOT NULL;
ALTER TABLE album_picture ADD COLUMN followed boolean NOT NULL DEFAULT false;
CREATE TRIGGER album_picture_said_anew AFTER UPDATE OF followed ON album_picture FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();

-- What was taken out of an album that follows a line does not come in again by that line.
CREATE TABLE album_without (
    album    uuid NOT NULL REFERENCES album ON DELETE CASCADE,
    original uuid NOT NULL REFERENCES original ON DELETE CASCADE,
    PRIMARY KEY (album, original)
);
CREATE INDEX album_without_original ON album_without (original);
CREATE TRIGGER album_without_said AFTER INSERT OR DELETE ON album_without FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
