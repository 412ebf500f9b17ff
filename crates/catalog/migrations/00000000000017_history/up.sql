-- Why: a keeper sees over the days how fast copies left and how exposed the house was. One row an hour; older ones go after a year.
CREATE TABLE traffic (
    store   uuid NOT NULL REFERENCES store,
    hour    timestamptz NOT NULL,
    objects bigint NOT NULL,
    bytes   bigint NOT NULL,
    PRIMARY KEY (store, hour)
);
CREATE TABLE exposure (
    hour      timestamptz PRIMARY KEY,
    originals bigint NOT NULL,
    bytes     bigint NOT NULL,
    -- When the oldest of them came home; none if there were none.
    since     timestamptz
);
