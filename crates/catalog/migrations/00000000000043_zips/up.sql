-- Why: many pictures are handed over as one file, of which every part is to be the same whenever it is asked for: a download that was
-- interrupted goes on days later. What is in it, and where, is put down when it is made; the checksums as they become known.
CREATE TABLE zip (
    id       uuid PRIMARY KEY,
    person   uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    name     text NOT NULL,
    ends_at  timestamptz NOT NULL,
    files    bigint NOT NULL CHECK (files >= 0),
    length   bigint NOT NULL CHECK (length >= 0)
);
CREATE INDEX zip_person ON zip (person, ends_at);

CREATE TABLE zip_file (
    zip      uuid NOT NULL REFERENCES zip ON DELETE CASCADE,
    n        bigint NOT NULL CHECK (n >= 0),
    original uuid NOT NULL,
    name     text NOT NULL,
    size     bigint NOT NULL CHECK (size >= 0),
    changed  timestamptz NOT NULL,
    local    timestamp NOT NULL,
    starts   bigint NOT NULL CHECK (starts >= 0),
    crc      bigint CHECK (crc BETWEEN 0 AND 4294967295),
    PRIMARY KEY (zip, n)
);
CREATE INDEX zip_file_starts ON zip_file (zip, starts);
