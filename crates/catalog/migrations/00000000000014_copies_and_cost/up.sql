-- Why: a copy on a disk that stays in the house is a copy, and is not away from home; and what copies cost follows from the prices of
-- each store and from what is, and was, there.
ALTER TABLE store
    ADD COLUMN away boolean NOT NULL DEFAULT true,
    ADD COLUMN prices jsonb NOT NULL DEFAULT '{}';

-- Objects that were removed: a store may ask for their storage until a minimum time has passed. Only ever added to.
CREATE TABLE removed_object (
    store        uuid NOT NULL REFERENCES store,
    size         bigint NOT NULL,
    confirmed_at timestamptz NOT NULL,
    removed_at   timestamptz NOT NULL
);
CREATE INDEX removed_object_of_store ON removed_object (store, removed_at);
