-- Why: the first shape of the catalogue: who lives here, what came from where, what was observed of it, and what is
-- still to be done. What is derived (standing) can be rebuilt from what is only ever added to (observation).

CREATE TABLE household (
    one        boolean PRIMARY KEY DEFAULT true CHECK (one),
    name       text NOT NULL,
    replica    uuid NOT NULL,
    name_key   text NOT NULL,
    created_at timestamptz NOT NULL
);

CREATE TABLE person (
    id            uuid PRIMARY KEY,
    name          text NOT NULL,
    login         text NOT NULL UNIQUE,
    role          text NOT NULL CHECK (role IN ('keeper', 'member', 'guest')),
    folder        text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    quota         bigint CHECK (quota > 0),
    created_at    timestamptz NOT NULL
);

CREATE TABLE session (
    token_hash bytea PRIMARY KEY,
    person     uuid NOT NULL REFERENCES person,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);

CREATE TABLE device (
    id         uuid PRIMARY KEY,
    person     uuid NOT NULL REFERENCES person,
    name       text NOT NULL,
    kind       text NOT NULL,
    token_hash bytea NOT NULL UNIQUE,
    client     text,
    paired_at  timestamptz NOT NULL,
    revoked_at timestamptz,
    seen_at    timestamptz
);

CREATE TABLE pairing (
    id           uuid PRIMARY KEY,
    code_hash    bytea NOT NULL UNIQUE,
    person       uuid NOT NULL REFERENCES person,
    created_by   uuid NOT NULL REFERENCES person,
    created_at   timestamptz NOT NULL,
    expires_at   timestamptz NOT NULL,
    withdrawn_at timestamptz,
    device       uuid REFERENCES device
);

CREATE TABLE original (
    id          uuid PRIMARY KEY,
    person      uuid NOT NULL REFERENCES person,
    device      uuid REFERENCES device,
    digest      bytea NOT NULL CHECK (length(digest) = 32),
    size        bigint NOT NULL,
    name        text NOT NULL,
    path        text NOT NULL,
    folded      text NOT NULL UNIQUE,
    kind        text NOT NULL,
    taken_at    timestamptz NOT NULL,
    taken_local timestamp NOT NULL,
    taken_rule  text NOT NULL,
    facts       jsonb NOT NULL,
    preview     text NOT NULL DEFAULT 'waiting' CHECK (preview IN ('waiting', 'ready', 'none')),
    placeholder text,
    landed_at   timestamptz NOT NULL,
    UNIQUE (person, digest)
);
CREATE INDEX original_timeline ON original (person, taken_local DESC, id DESC);
CREATE INDEX original_digest ON original (digest);

-- What a device said it has. One row for each file name of a device; a file that was edited there points to new bytes.
CREATE TABLE sighting (
    device    uuid NOT NULL REFERENCES device,
    source    text NOT NULL,
    name      text NOT NULL,
    digest    bytea NOT NULL,
    size      bigint NOT NULL,
    file_time timestamptz,
    refused   text,
    seen_at   timestamptz NOT NULL,
    PRIMARY KEY (device, source, name)
);
CREATE INDEX sighting_digest ON sighting (digest);

CREATE TABLE upload (
    id         uuid PRIMARY KEY,
    device     uuid NOT NULL REFERENCES device,
    person     uuid NOT NULL REFERENCES person,
    length     bigint NOT NULL,
    digest     bytea,
    name       text NOT NULL,
    source     text NOT NULL,
    file_time  timestamptz,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    -- The filed path, written down before the file is given it, so that a kill between the two can be settled.
    target     text,
    original   uuid REFERENCES original
);
CREATE INDEX upload_open ON upload (person) WHERE original IS NULL;

CREATE TABLE run (
    id          uuid PRIMARY KEY,
    device      uuid NOT NULL REFERENCES device,
    began_at    timestamptz NOT NULL,
    reported_at timestamptz NOT NULL,
    ended_at    timestamptz,
    checked     bigint NOT NULL DEFAULT 0,
    sent        bigint NOT NULL DEFAULT 0,
    present     bigint NOT NULL DEFAULT 0,
    skipped     bigint NOT NULL DEFAULT 0,
    failed      bigint NOT NULL DEFAULT 0,
    bytes       bigint NOT NULL DEFAULT 0
);
CREATE INDEX run_of_device ON run (device, began_at DESC);

CREATE TABLE run_entry (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run     uuid NOT NULL REFERENCES run,
    name    text NOT NULL,
    source  text NOT NULL,
    outcome text NOT NULL,
    reason  text,
    size    bigint NOT NULL
);
CREATE INDEX run_entry_of_run ON run_entry (run, id);

CREATE TABLE store (
    id             uuid PRIMARY KEY,
    name           text NOT NULL UNIQUE,
    endpoint       text NOT NULL,
    region         text NOT NULL,
    bucket         text NOT NULL,
    prefix         text NOT NULL,
    access_key     text NOT NULL,
    secret_key     text NOT NULL,
    created_at     timestamptz NOT NULL,
    -- Why nothing is sent until the keeper has done something.
    stopped        text,
    -- Why the last attempt failed, and when the next one is.
    failing        text,
    retry_at       timestamptz,
    -- Faults in a row; decides how long to wait.
    faults         integer NOT NULL DEFAULT 0,
    ledger_segment bigint NOT NULL DEFAULT 0,
    UNIQUE (endpoint, bucket, prefix)
);

-- A sealed object that a store has confirmed. Equal bytes of two members share one.
CREATE TABLE object (
    store         uuid NOT NULL REFERENCES store,
    digest        bytea NOT NULL,
    name          text NOT NULL,
    size          bigint NOT NULL,
    sealed_digest bytea NOT NULL,
    confirmed_at  timestamptz NOT NULL,
    PRIMARY KEY (store, digest)
);

-- Who read or wrote which bytes where, when, and what came of it. Only ever added to.
-- place: the store's id, or the nil UUID for the home disk.
CREATE TABLE observation (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    original uuid NOT NULL REFERENCES original,
    place    uuid NOT NULL,
    act      text NOT NULL,
    at       timestamptz NOT NULL,
    digest   bytea,
    outcome  text NOT NULL
);
CREATE INDEX observation_of_original ON observation (original, id);

-- What all observations of one original at one place add up to.
CREATE TABLE standing (
    original  uuid NOT NULL REFERENCES original,
    place     uuid NOT NULL,
    good      boolean NOT NULL,
    since     timestamptz NOT NULL,
    proven_at timestamptz,
    -- Whether the store's ledger names it.
    listed    boolean NOT NULL DEFAULT false,
    PRIMARY KEY (original, place)
);
CREATE INDEX standing_of_place ON standing (place, good, listed);

CREATE TABLE job (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind      text NOT NULL,
    key       uuid NOT NULL,
    store     uuid REFERENCES store,
    priority  integer NOT NULL,
    due       timestamptz NOT NULL,
    attempts  integer NOT NULL DEFAULT 0,
    error     text,
    gave_up   boolean NOT NULL DEFAULT false,
    leased_by uuid,
    lease_end timestamptz,
    UNIQUE NULLS NOT DISTINCT (kind, key, store)
);
CREATE INDEX job_due ON job (kind, priority DESC, due, id) WHERE NOT gave_up;

-- Who did what, and when, in words. Only ever added to.
CREATE TABLE record (
    id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at   timestamptz NOT NULL,
    who  text NOT NULL,
    what text NOT NULL
);

CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION '% is only ever added to', TG_TABLE_NAME;
END $$;
CREATE TRIGGER observation_only_grows BEFORE UPDATE OR DELETE OR TRUNCATE ON observation FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER record_only_grows BEFORE UPDATE OR DELETE OR TRUNCATE ON record FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

CREATE FUNCTION tell_job() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('job', '');
    RETURN NULL;
END $$;
CREATE TRIGGER job_added AFTER INSERT ON job FOR EACH STATEMENT EXECUTE FUNCTION tell_job();
