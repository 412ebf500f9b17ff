-- Why: what lies on an old disk or in an archive is taken over by a plan that is seen first, file by file, and each file's end
-- is kept.
CREATE TABLE adoption (
    id         uuid PRIMARY KEY,
    person     uuid NOT NULL REFERENCES person,
    place      text NOT NULL,
    -- The originals stay where they are, and the library points to them.
    in_place   boolean NOT NULL,
    -- Files of any sort, not pictures and videos alone.
    everything boolean NOT NULL,
    -- What it is among the devices, once it has begun.
    device     uuid REFERENCES device,
    made_by    text NOT NULL,
    began_at   timestamptz NOT NULL,
    ended_at   timestamptz,
    state      text NOT NULL CHECK (state IN ('looking', 'planned', 'running', 'paused', 'done', 'stopped')),
    -- Why it does not go on by itself.
    problem    text
);

CREATE TABLE adopted_file (
    adoption  uuid NOT NULL REFERENCES adoption,
    -- The archive that it is in, from the top of the tree; empty outside of one.
    archive   bytea NOT NULL,
    path      bytea NOT NULL,
    size      bigint NOT NULL,
    file_time timestamptz,
    -- Its bytes are here already, as far as the plan could tell.
    known     boolean NOT NULL DEFAULT false,
    outcome   text CHECK (outcome IN ('left-out', 'archive', 'copied', 'pointed', 'present', 'failed')),
    reason    text,
    PRIMARY KEY (adoption, archive, path)
);
CREATE INDEX adopted_file_waiting ON adopted_file (adoption, archive, path) WHERE outcome IS NULL;
