-- Why: guests of a wedding have pictures, too, and no account here. A link may take what they bring. It is the pictures of whoever made the link from the moment it
-- arrives, as safe as all others; until they have taken it, it is put away and in no album, so nobody can show anything here that its owner has not looked at.
ALTER TABLE link ADD COLUMN device uuid REFERENCES device;
-- For which album an upload comes, and who says that they send it.
ALTER TABLE upload ADD COLUMN brought_for uuid, ADD COLUMN brought_by text, ADD CONSTRAINT upload_brought CHECK ((brought_for IS NULL) = (brought_by IS NULL));

-- What comes by links comes as from a device, one for each person. Nobody has a credential for it.
CREATE UNIQUE INDEX device_link ON device (person) WHERE kind = 'link';

-- What was brought and is not taken yet. An album that is removed meanwhile leaves it without one.
CREATE TABLE brought (
    original   uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    person     uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    album      uuid REFERENCES album ON DELETE SET NULL,
    brought_by text NOT NULL,
    brought_at timestamptz NOT NULL
);
CREATE INDEX brought_person ON brought (person, brought_at DESC, original DESC);
CREATE INDEX brought_album ON brought (album) WHERE album IS NOT NULL;
-- The ledgers say it, so that what nobody has looked at is not among one's own after a recovery.
CREATE TRIGGER brought_said AFTER INSERT OR DELETE ON brought FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER brought_said_anew AFTER UPDATE OF album ON brought FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
