-- Why: old readers cannot show HEIC; a JPEG beside it can be made anew at any time, so it is no original and is never sent.
ALTER TABLE household ADD COLUMN derive_jpeg boolean NOT NULL DEFAULT false;

CREATE TABLE derived_file (
    original uuid PRIMARY KEY REFERENCES original,
    path     text NOT NULL,
    folded   text NOT NULL UNIQUE,
    digest   bytea NOT NULL CHECK (length(digest) = 32),
    size     bigint NOT NULL,
    made_at  timestamptz NOT NULL
);
