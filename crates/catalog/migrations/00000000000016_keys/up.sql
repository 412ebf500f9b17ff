-- Why: a household may take a new key without sending everything again, seal for others as well, and keep the opening half of its key
-- away from its server; a recovery kit is only a kit once somebody has shown that it was kept; and a ledger of a million originals is
-- read from a checkpoint.

-- Public halves of the household's own keys; the one with the highest epoch seals.
CREATE TABLE household_key (
    epoch     smallint PRIMARY KEY,
    recipient text NOT NULL UNIQUE,
    made_at   timestamptz NOT NULL
);
-- Others that can open what is sealed.
CREATE TABLE other_recipient (
    recipient text PRIMARY KEY,
    name      text NOT NULL,
    added_at  timestamptz NOT NULL
);
-- The kit that was shown last. said: a hash of what it says, without its date; check_word: its last line, which is typed back.
CREATE TABLE kit (
    one        boolean PRIMARY KEY DEFAULT true CHECK (one),
    said       text NOT NULL,
    check_word text NOT NULL,
    shown_at   timestamptz NOT NULL,
    proven_at  timestamptz
);
ALTER TABLE household
    -- Raised whenever things are sealed for others than before.
    ADD COLUMN seal_epoch smallint NOT NULL DEFAULT 0,
    -- The server keeps no key that opens copies.
    ADD COLUMN strict boolean NOT NULL DEFAULT false;
ALTER TABLE object ADD COLUMN epoch smallint NOT NULL DEFAULT 0;
ALTER TABLE store ADD COLUMN checkpoint bigint NOT NULL DEFAULT 0;
-- Objects that were sealed anew under another name, until the ledger has stopped naming them.
CREATE TABLE superseded (
    store  uuid NOT NULL REFERENCES store,
    name   text NOT NULL,
    digest bytea NOT NULL,
    at     timestamptz NOT NULL,
    PRIMARY KEY (store, name)
);
