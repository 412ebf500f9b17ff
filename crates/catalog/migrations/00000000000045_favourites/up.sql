-- Why: people mark what they like best. Each has their own favourites; the ledgers say them, so that they come back with the pictures.
CREATE TABLE favourite (
    person   uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    original uuid NOT NULL REFERENCES original ON DELETE CASCADE,
    PRIMARY KEY (person, original)
);
CREATE INDEX favourite_original ON favourite (original);

CREATE FUNCTION ledgers_say_whose_favourite() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE standing SET listed = false WHERE original = coalesce(NEW.original, OLD.original) AND place IN (SELECT id FROM store);
    RETURN NULL;
END $$;
CREATE TRIGGER favourite_said AFTER INSERT OR DELETE ON favourite FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
