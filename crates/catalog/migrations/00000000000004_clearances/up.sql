-- Why: a device may let go of its copy when the server has looked at the others and says so. What was said, on what evidence,
-- and what the device did with it, stays written down. The depth that is demanded is the keeper's choice, like the filing plan.

ALTER TABLE household
    ADD COLUMN filing   text NOT NULL DEFAULT '%Y/%m/{name}',
    ADD COLUMN clear_at text NOT NULL DEFAULT 'proven' CHECK (clear_at IN ('home', 'offsite', 'proven'));

CREATE TABLE clearance (
    id          uuid PRIMARY KEY,
    device      uuid NOT NULL REFERENCES device,
    nonce       text NOT NULL,
    given_at    timestamptz NOT NULL,
    holds_until timestamptz NOT NULL,
    used_at     timestamptz,
    UNIQUE (device, nonce)
);

CREATE TABLE clearance_entry (
    clearance  uuid NOT NULL REFERENCES clearance,
    source     text NOT NULL,
    name       text NOT NULL,
    original   uuid NOT NULL REFERENCES original,
    digest     bytea NOT NULL,
    evidence   jsonb NOT NULL,
    removed_at timestamptz,
    PRIMARY KEY (clearance, source, name)
);

-- When the device removed it with a clearance. A device that has it again says so with its next offer.
ALTER TABLE sighting ADD COLUMN removed_at timestamptz;
