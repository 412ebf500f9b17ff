-- Why: many cameras write films that browsers do not play. A version that they play is made in the background, beside the previews: it is no original, is
-- never sent offsite, and can be made again.
CREATE TABLE film (
    original uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    -- plays: browsers play the file itself; made: a version was made; none: none could be made.
    state    text NOT NULL CHECK (state IN ('plays', 'made', 'none')),
    size     bigint CHECK (size > 0),
    why      text,
    CHECK ((state = 'made') = (size IS NOT NULL)),
    CHECK ((state = 'none') = (why IS NOT NULL))
);

-- What is here already is looked at, a few at a time (`catalog::missing`).
