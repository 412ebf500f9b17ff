-- Why: who did what, and when, came back with no recovery. The ledgers say it now; up to which line each of them does is kept here.
ALTER TABLE store ADD COLUMN recorded bigint NOT NULL DEFAULT 0;
