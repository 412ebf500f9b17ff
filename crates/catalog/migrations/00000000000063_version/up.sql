-- Why: which files are one picture is told by their names and by what is in them; of a file that was worked on elsewhere, or that a camera named otherwise, neither tells it.
-- Whose pictures they are says it then: this file is a version of that one's picture. The ledgers say so, too. The other is no reference: after a recovery it may come later.
CREATE TABLE version (
    original   uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    version_of uuid NOT NULL CHECK (version_of <> original)
);
CREATE INDEX version_version_of ON version (version_of);
CREATE TRIGGER version_said AFTER INSERT OR DELETE ON version FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER version_said_anew AFTER UPDATE OF version_of ON version FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
