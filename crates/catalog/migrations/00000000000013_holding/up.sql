-- Why: what is deleted waits in holding, at home and in the stores, and can be taken back; what has gone for good leaves its row behind,
-- so that whoever asks is told, and a device that still has it does not bring it back by itself.
ALTER TABLE original
    ADD COLUMN held_at timestamptz,
    ADD COLUMN gone_at timestamptz CHECK (gone_at IS NULL OR held_at IS NOT NULL);
-- The same bytes may come again after they have gone.
ALTER TABLE original DROP CONSTRAINT original_person_digest_key;
CREATE UNIQUE INDEX original_person_digest_key ON original (person, digest) WHERE gone_at IS NULL;
CREATE INDEX original_gone ON original (person, digest) WHERE gone_at IS NOT NULL;
-- What nobody has deleted.
CREATE VIEW living AS SELECT * FROM original WHERE held_at IS NULL;

CREATE TABLE held (
    original  uuid PRIMARY KEY REFERENCES original,
    -- Where it was, and is again when it is taken back.
    was_at    text NOT NULL,
    deleted_by text NOT NULL,
    at        timestamptz NOT NULL,
    -- When it leaves holding; NULL: never.
    until     timestamptz,
    -- The keeper has looked: the brake does not count it.
    looked_at timestamptz
);
CREATE INDEX held_until ON held (until, original);

ALTER TABLE household
    ADD COLUMN home_days smallint DEFAULT 60 CHECK (home_days > 0),
    ADD COLUMN offsite_days smallint NOT NULL DEFAULT 30 CHECK (offsite_days >= 0),
    ADD COLUMN brake_percent smallint NOT NULL DEFAULT 5 CHECK (brake_percent BETWEEN 1 AND 100);

-- It is being removed from its store: whoever needs it there waits until that is over and sends it anew.
ALTER TABLE object ADD COLUMN leaving boolean NOT NULL DEFAULT false;
