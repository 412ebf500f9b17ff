-- Why: copies are read again on a schedule. What has not been looked at for longest comes first, so that a reading that was stopped
-- goes on where it was, whoever takes it up.
ALTER TABLE standing ADD COLUMN looked_at timestamptz;
UPDATE standing SET looked_at = proven_at;
CREATE INDEX standing_least_looked_at ON standing (place, looked_at NULLS FIRST, original);

-- One check of one place. place: the store's id, or the nil UUID for the home disk.
CREATE TABLE audit (
    id         uuid PRIMARY KEY,
    place      uuid NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('reading', 'listing', 'drill')),
    -- Wanted by the keeper: everything is read, not a portion.
    whole      boolean NOT NULL DEFAULT false,
    wanted_at  timestamptz NOT NULL,
    began_at   timestamptz,
    ended_at   timestamptz,
    -- Copies that should be there, and of these: looked at, damaged, missing. Beside them: what nobody knows.
    population bigint NOT NULL DEFAULT 0,
    checked    bigint NOT NULL DEFAULT 0,
    bytes      bigint NOT NULL DEFAULT 0,
    wrong      bigint NOT NULL DEFAULT 0,
    missing    bigint NOT NULL DEFAULT 0,
    unknown    bigint NOT NULL DEFAULT 0,
    -- What it says, or why it could not be done.
    said       text,
    failed     boolean NOT NULL DEFAULT false
);
CREATE UNIQUE INDEX audit_open ON audit (place, kind) WHERE ended_at IS NULL;
CREATE INDEX audit_last ON audit (place, kind, ended_at DESC);

-- Copies that were made good. source: where the good bytes came from.
CREATE TABLE healing (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    original uuid NOT NULL REFERENCES original,
    place    uuid NOT NULL,
    source   uuid NOT NULL,
    at       timestamptz NOT NULL
);
CREATE INDEX healing_of_copy ON healing (original, place, at);

-- The names in a store in the order in which a store lists them.
CREATE INDEX object_by_name ON object (store, name COLLATE "C");
