-- Why: people show pictures of an album to somebody who has no account here. A link opens the pictures of whoever made it in that album, and nothing
-- else; it ends by itself, and at once when it is withdrawn. Of what opens it, only a hash is kept.
CREATE TABLE link (
    id              uuid PRIMARY KEY,
    person          uuid NOT NULL REFERENCES person ON DELETE CASCADE,
    album           uuid NOT NULL REFERENCES album ON DELETE CASCADE,
    secret_hash     bytea NOT NULL UNIQUE,
    passphrase_hash text,
    hands_out       text NOT NULL CHECK (hands_out IN ('previews', 'copies', 'originals')),
    made_at         timestamptz NOT NULL,
    ends_at         timestamptz NOT NULL,
    opened          bigint NOT NULL DEFAULT 0,
    opened_at       timestamptz
);
CREATE INDEX link_person ON link (person);
CREATE INDEX link_album ON link (album);

-- A browser in which a link was opened. It goes with its link.
CREATE TABLE link_visit (
    token_hash bytea PRIMARY KEY,
    link       uuid NOT NULL REFERENCES link ON DELETE CASCADE,
    ends_at    timestamptz NOT NULL
);
CREATE INDEX link_visit_link ON link_visit (link);
CREATE INDEX link_visit_ends ON link_visit (ends_at);
