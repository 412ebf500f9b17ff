-- Why: a member hears that room is running out before something is refused.
ALTER TABLE person ADD COLUMN soft_quota bigint CHECK (soft_quota > 0);
