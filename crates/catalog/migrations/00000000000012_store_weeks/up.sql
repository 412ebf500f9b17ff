-- Why: copies go out at the hours and speeds that suit the household, and wait when the keeper says so.
-- week: core::window::Week. rest_until: nothing goes before then, because the week says so.
ALTER TABLE store ADD COLUMN week jsonb NOT NULL DEFAULT '{}', ADD COLUMN paused boolean NOT NULL DEFAULT false, ADD COLUMN rest_until timestamptz;
