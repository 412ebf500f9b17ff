-- Why: files of one press of the shutter are shown as one; a wrong clock can be put right afterwards; and the library can be
-- filed by another plan, watched, interrupted and undone.

ALTER TABLE original
    -- The album or folder on the device, and the file's time there: both may decide where it is filed.
    ADD COLUMN source     text NOT NULL DEFAULT '',
    ADD COLUMN file_time  timestamptz,
    -- The identifier that a still and its moving half share.
    ADD COLUMN pair       text,
    -- What files of one shot have in common: device, folder and name without its marks.
    ADD COLUMN shot_key   text NOT NULL DEFAULT '',
    -- The original that stands for the shot; its own id for one that is alone.
    ADD COLUMN shot       uuid,
    ADD COLUMN part       text NOT NULL DEFAULT 'still',
    -- The correction of its device's clock that was applied to it.
    ADD COLUMN correction uuid,
    -- Another name that the file may have: one that it is just being given, or an old one that is just being taken away.
    ADD COLUMN moving_to  text;
UPDATE original SET shot = id;
ALTER TABLE original ALTER COLUMN shot SET NOT NULL;
CREATE INDEX original_shot ON original (shot);
CREATE INDEX original_shot_key ON original (person, shot_key);
CREATE INDEX original_pair ON original (person, pair) WHERE pair IS NOT NULL;
CREATE INDEX original_moving ON original (id) WHERE moving_to IS NOT NULL;
CREATE INDEX original_leads ON original (person, taken_local DESC, id DESC) WHERE shot = id;

CREATE TABLE clock_correction (
    id         uuid PRIMARY KEY,
    device     uuid NOT NULL REFERENCES device,
    -- Local times of capture, both included.
    from_local timestamp NOT NULL,
    to_local   timestamp NOT NULL,
    seconds    bigint NOT NULL,
    originals  bigint NOT NULL,
    made_by    text NOT NULL,
    made_at    timestamptz NOT NULL,
    undone_at  timestamptz
);
ALTER TABLE original ADD FOREIGN KEY (correction) REFERENCES clock_correction;

CREATE TABLE refiling (
    id       uuid PRIMARY KEY,
    plan     text NOT NULL,
    -- What the household had before, for taking it back.
    before   text NOT NULL,
    undoes   uuid REFERENCES refiling,
    made_by  text NOT NULL,
    began_at timestamptz NOT NULL,
    ended_at timestamptz,
    state    text NOT NULL CHECK (state IN ('running', 'paused', 'done', 'stopped'))
);
-- At most one is under way: two would pull at the same files.
CREATE UNIQUE INDEX refiling_open ON refiling ((true)) WHERE state IN ('running', 'paused');

CREATE TABLE refiling_move (
    refiling  uuid NOT NULL REFERENCES refiling,
    original  uuid NOT NULL REFERENCES original,
    from_path text NOT NULL,
    -- Where it is to go, when a re-filing is taken back; otherwise the plan says.
    wanted    text,
    -- Known once its row says so. Where a plan puts it may depend on what else has its name by then.
    to_path   text,
    done_at   timestamptz,
    error     text,
    PRIMARY KEY (refiling, original)
);
CREATE INDEX refiling_move_waiting ON refiling_move (refiling, original) WHERE done_at IS NULL;
