-- Why: originals that were left in place on a disk that is not connected counted as missing, one by one as they were read, and were fetched
-- anew from the stores. Now the folders are known in which originals were left, and since when one is out of reach.
CREATE TABLE elsewhere (
    -- A path is bytes.
    folder bytea PRIMARY KEY,
    -- Empty or not there since then; none: it is there.
    unseen_since timestamptz,
    -- Somebody said that it does not come back: what was left there is missing.
    given_up_at timestamptz
);
INSERT INTO elsewhere (folder)
SELECT DISTINCT convert_to(a.place, 'UTF8') FROM adoption a
WHERE a.in_place AND EXISTS (SELECT 1 FROM adopted_file f WHERE f.adoption = a.id AND f.outcome = 'pointed');

-- Copies that a reading could not look at.
ALTER TABLE audit ADD COLUMN unseen bigint NOT NULL DEFAULT 0;
